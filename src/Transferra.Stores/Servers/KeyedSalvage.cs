// KeyedSalvage.cs: reads around the damage of a table by the values of its key, for servers that tell of no other place of a record.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class KeyedSalvage
{
    /// <summary>A reader of what can be read.</summary>
    /// <param name="store">The store.</param>
    /// <param name="table">What is read.</param>
    /// <param name="name">The table as the store spells it.</param>
    /// <param name="quote">How the engine quotes a name.</param>
    /// <param name="lost">Receives what is lost.</param>
    public static IRecordReader Read(IStore store, TableShape table, string name, Func<string, string> quote, ICollection<LostPart> lost)
    {
        TableShape shape = store.ReadShape().First(known => known.Name == name);
        // A key of one whole number leads around the damage; without one the reading ends there.
        if (shape.Key.Count != 1 || table.OrdinalOf(shape.Key[0]) is not (>= 0 and int key)
            || table.Columns[key].Type.Kind != FieldKind.Integer)
            return new ReadToDamage(() => store.Read(table, []), table.Name, lost);
        return new SkippingReader(table, (from, before) =>
            store.Read(table, [], new KeyRange(shape.Key[0], from.ToString(CultureInfo.InvariantCulture),
                before.ToString(CultureInfo.InvariantCulture))),
            End("MIN") ?? SkippingReader.FarBelow, End("MAX") ?? SkippingReader.FarAbove, shape.Key[0], lost);

        long? End(string which)
        {
            try
            {
                return store.Ask($"SELECT {which}({quote(shape.Key[0])}) FROM {quote(name)}").Rows[0][0] is { } found
                ? long.Parse(found, CultureInfo.InvariantCulture) : 0;
            }
            catch (TransferraException) { return null; }
        }
    }
}
