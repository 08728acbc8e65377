// JsonFacts.cs: a JSON object that no record of ours describes, because it is written in one place only and never read back by us.
using System.Collections;
using System.Diagnostics.CodeAnalysis;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;

namespace Transferra.Core.Machine;

/// <summary>Names and values in the order in which they were added.</summary>
[JsonConverter(typeof(JsonFactsWriter))]
[SuppressMessage("Naming", "CA1710", Justification = "It is listed only so that it can be written down like one; nobody goes through it.")]
public sealed class JsonFacts : IEnumerable<string>
{
    private readonly List<(string Name, Action<Utf8JsonWriter, JsonSerializerOptions> Write)> _facts = [];

    /// <summary>Adds one.</summary>
    /// <typeparam name="T">Its type, which the context that writes it has to know.</typeparam>
    /// <param name="name">Its name, as it is written.</param>
    /// <param name="value">Its value.</param>
    public void Add<T>(string name, T value) => _facts.Add((name,
        (writer, options) => JsonSerializer.Serialize(writer, value, (JsonTypeInfo<T>)options.GetTypeInfo(typeof(T)))));

    internal void Write(Utf8JsonWriter writer, JsonSerializerOptions options)
    {
        writer.WriteStartObject();
        foreach ((string name, Action<Utf8JsonWriter, JsonSerializerOptions> write) in _facts)
        {
            writer.WritePropertyName(name);
            write(writer, options);
        }
        writer.WriteEndObject();
    }

    /// <summary>The names.</summary>
    public IEnumerator<string> GetEnumerator() => _facts.Select(fact => fact.Name).GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}

/// <summary>Writes <see cref="JsonFacts"/>.</summary>
public sealed class JsonFactsWriter : JsonConverter<JsonFacts>
{
    /// <inheritdoc/>
    public override JsonFacts Read(ref Utf8JsonReader reader, Type typeToConvert, JsonSerializerOptions options) =>
        throw new NotSupportedException("facts are written only");

    /// <inheritdoc/>
    public override void Write(Utf8JsonWriter writer, JsonFacts value, JsonSerializerOptions options) => value.Write(writer, options);
}
