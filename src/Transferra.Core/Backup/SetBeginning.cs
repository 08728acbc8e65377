// SetBeginning.cs: the beginning of a set: its manifest with the header, its label, and whether the seal at the end is that of it.
using System.Security.Cryptography;
using System.Text.Json;

namespace Transferra.Core.Backup;

/// <summary>The beginning of a set.</summary>
/// <param name="Manifest">The manifest; null when it cannot be read.</param>
/// <param name="Bytes">How many the manifest with its header has.</param>
/// <param name="Digest">Of them, which is what the seal holds: 64 lower-case hexadecimal digits.</param>
/// <param name="Fault">What is wrong with it.</param>
internal sealed record SetBeginning(SetManifest? Manifest, long Bytes, string Digest, SetFault? Fault)
{
    /// <summary>Codes of faults of the end of a set.</summary>
    public const string SealChanged = "seal", Length = "length";

    private SetLayout? _layout;

    private const int LargestManifest = 1 << 30;

    /// <summary>Reads the beginning of a set; whether it is the one that was sealed is judged apart.</summary>
    public static SetBeginning Read(ISetFile file)
    {
        try
        {
            return ReadStored(file);
        }
        catch (InvalidDataException error)
        {
            return Wrong(error.Message); // of a locked set
        }
    }

    // A label is at the manifest's beginning, and no longer than what office.yaml says of the company.
    private const int LargestLabel = 1 << 16;

    /// <summary>Reads whose set it is and of when, without the rest of the manifest.</summary>
    /// <returns>Null when the beginning is not that of a set.</returns>
    public static SetLabel? ReadLabel(ISetFile file)
    {
        byte[] bytes = new byte[(int)Math.Min(file.Length, LargestLabel)];
        if (file.ReadAt(0, bytes) != bytes.Length || bytes.Length <= SetLayout.Block || !bytes.AsSpan().StartsWith(FirstBytes)) return null;
        try
        {
            var reader = new Utf8JsonReader(bytes.AsSpan(SetLayout.Block), isFinalBlock: false, default);
            string? format = null;
            while (reader.Read())
            {
                if (reader.TokenType != JsonTokenType.PropertyName) continue;
                string? name = reader.GetString();
                reader.Read();
                if (name == "format") format = reader.GetString();
                else if (name == "label") return format is not null && SetManifest.Readable.Contains(format)
                    ? JsonSerializer.Deserialize(ref reader, SetJson.Form.SetLabel) : null;
                else return null;
            }
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException) { /* damaged; a proof tells how */ }
        return null;
    }

    private static ReadOnlySpan<byte> FirstBytes => "manifest.json\0"u8;

    private static SetBeginning Wrong(string what) => new(null, 0, "", new SetFault("manifest", SetManifest.FirstMember, what));

    private static SetBeginning ReadStored(ISetFile file)
    {
        byte[] header = new byte[SetLayout.Block];
        if (file.ReadAt(0, header) != header.Length || !header.AsSpan()
            .StartsWith(FirstBytes)) return Wrong("the first member is not the manifest");
        long size = SetLayout.SizeIn(header);
        if (size <= 0 || size > LargestManifest || size > file.Length) return Wrong("the size of the manifest is implausible");
        const string cutOff = "the set is cut off within its manifest";
        long bytes = SetLayout.Block + SetLayout.Padded(size);
        if (file.Length < bytes) return Wrong(cutOff);
        try
        {
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
            hash.AppendData(header);
            using DigestedPart json = new(file, hash, SetLayout.Block, size),
                rest = new(file, hash, SetLayout.Block + size, bytes - SetLayout.Block - size);
            SetManifest? manifest = JsonSerializer.Deserialize(json, SetJson.Form.SetManifest);
            if (!json.ReadRest() || !rest.ReadRest()) return Wrong(cutOff);
            if (manifest is null || !SetManifest.Readable.Contains(manifest.Format))
                return Wrong($"the set has the form {manifest?.Format ?? "(none)"}; this program reads {SetManifest.CurrentFormat}");
            return new SetBeginning(manifest, bytes, Convert.ToHexStringLower(hash.GetHashAndReset()), null)
            {
                _layout = new SetLayout(manifest, bytes)
            };
        }
        catch (Exception error) when (error is FormatException or OverflowException or ArgumentException)
        {
            return Wrong($"the manifest lists impossible members: {error.Message}");
        }
        catch (JsonException error)
        {
            return Wrong("the manifest cannot be read: "
                + (error.Message.Contains("'format'", StringComparison.Ordinal)
                    || error.Message.Contains("'label'", StringComparison.Ordinal)
                    ? "it is of another form than " + SetManifest.CurrentFormat : error.Message));
        }
    }

    /// <summary>The layout of the set.</summary>
    public SetLayout Layout() => _layout!;

    /// <summary>What is wrong with the seal; null when it is that of this beginning, so that the manifest is the one that was
    /// written.</summary>
    public SetFault? JudgeSeal(ISetFile file, SetLayout layout)
    {
        const string sealWrong = "the seal does not fit the manifest: one of the two was changed";
        byte[] wanted = SetLayout.Seal(Digest, Manifest!.Label.MadeAt), found = new byte[wanted.Length];
        // Where the file ends with some seal, and not where the manifest says, it is the manifest that was changed.
        int read = 0;
        try
        {
            if (file.Length >= found.Length) read = file.ReadAt(file.Length - found.Length, found);
        }
        catch (InvalidDataException) { /* of a locked set: what does not prove itself is not the seal */ }
        bool endsWithSeal = read == found.Length && found.AsSpan().StartsWith("seal.sha256\0"u8);
        if (file.Length != layout.TotalBytes && !endsWithSeal)
            return new SetFault(Length, SetLayout.SealName, file.Length < layout.TotalBytes
                ? FormattableString.Invariant($"the set is cut off: {layout.TotalBytes - file.Length} bytes are missing")
                : FormattableString.Invariant($"{file.Length - layout.TotalBytes} bytes follow the end of the set"));
        return file.Length == layout.TotalBytes && found.AsSpan().SequenceEqual(wanted) ? null : new SetFault(SealChanged,
            SetLayout.SealName, sealWrong);
    }
}
