// KnownKinds.cs: the beginnings and means that hop files can name; a new one is added here.
using Transferra.Core.Kits;

namespace Transferra.Core.Means;

/// <summary>The kinds there are.</summary>
public static class KnownKinds
{
    /// <summary>All of them.</summary>
    public static readonly HopKinds All = new(
        [new UsualBeginning(), new CopyBeginning(), new VendorMadeBeginning(), new EmptyBeginning()],
        [new MapsMeans(), new ScriptsMeans(), new ProgramMeans(), new ServiceMeans(), new ByHandMeans(), new ExportImportMeans()]);
}
