using System.Reflection;
using System.Text.Json;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;
using Transferra.Core.Machine;
using Transferra.Core.Runs;
using Transferra.Core.Support;
using Transferra.Tests;

namespace Transferra.Core.Tests;

/// <summary>How results are read and written is made when the program is built; it must be what the runtime would find out by
/// itself.</summary>
public sealed class JsonContextTests
{
    // Each context by itself, with all the types that it reaches.
    private static IEnumerable<(JsonSerializerContext Context, JsonTypeInfo Type)> Known()
    {
        foreach (Type type in typeof(ResultJson).Assembly.GetTypes().Where(type => type.IsSubclassOf(typeof(JsonSerializerContext))))
        {
            FieldInfo? form = type.GetField("Form");
            var context = (JsonSerializerContext)(form is not null ? form.GetValue(null) : type.GetProperty("Default")!.GetValue(null))!;
            var options = new JsonSerializerOptions(JsonSerializerDefaults.Web) { TypeInfoResolver = context };
            foreach (JsonConverter converter in context.Options.Converters) options.Converters.Add(converter);
            var seen = new HashSet<Type>();
            var left = new Queue<Type>(type.GetCustomAttributesData().Where(data => data.AttributeType == typeof(JsonSerializableAttribute))
                .Select(data => (Type)data.ConstructorArguments[0].Value!));
            while (left.TryDequeue(out Type? next))
            {
                if (!seen.Add(next)) continue;
                JsonTypeInfo info = options.GetTypeInfo(next);
                yield return (context, info);
                foreach (JsonPropertyInfo property in info.Properties.Where(property => property.Get is not null))
                    left.Enqueue(property.PropertyType);
                if (info.ElementType is { } element) left.Enqueue(element);
                if (info.KeyType is { } key) left.Enqueue(key);
            }
        }
    }

    [Fact]
    public void What_a_document_does_not_say_is_what_the_record_says_of_itself()
    {
        var wrong = new SortedSet<string>(StringComparer.Ordinal);
        int looked = 0;
        foreach ((JsonSerializerContext context, JsonTypeInfo info) in Known())
        {
            if (info.Kind != JsonTypeInfoKind.Object || info.Type.IsInterface || info.Type.IsAbstract) continue;
            object? expected;
            try { expected = JsonSerializer.Deserialize("{}", info.Type, JsonSerializerOptions.Web); }
            catch (Exception error) when (error is NotSupportedException or JsonException or ArgumentException or NullReferenceException)
            { continue; } // written only
            object? found = JsonSerializer.Deserialize("{}", info);
            foreach (PropertyInfo property in info.Type.GetProperties().Where(property => property.CanWrite
                && property.GetIndexParameters().Length == 0
                && property.GetCustomAttribute<JsonIgnoreAttribute>()?.Condition != JsonIgnoreCondition.Always))
            {
                looked++;
                object? a = property.GetValue(expected), b = property.GetValue(found);
                if (a is null != b is null || (a is string or ValueType && !a.Equals(b)))
                    wrong.Add($"{info.Type.Name}.{property.Name}: {b ?? "null"} instead of {a ?? "null"}");
            }
        }
        Assert.True(wrong.Count == 0, string.Join("\n", wrong));
        Assert.True(looked > 300, $"only {looked} properties were looked at");
    }

    [Fact]
    public void Enumerations_in_results_are_words()
    {
        string[] numbers = [.. Known().Where(known => known.Context.Options.WriteIndented && known.Type.Type.IsEnum)
            .Select(known => (known.Type.Type, Text: JsonSerializer.Serialize(Enum.GetValues(known.Type.Type).GetValue(0), known.Type)))
            .Where(one => one.Text[0] != '"').Select(one => one.Type.Name).Distinct()];
        Assert.Empty(numbers);
    }

    [Fact]
    public void Whatever_a_run_keeps_and_a_bundle_holds_is_known_when_the_program_is_built()
    {
        Module core = typeof(ResultJson).Module;
        IReadOnlyCollection<Type> kept = GenericUses.Of(core, used => (used.DeclaringType == typeof(CompanyRun)
                && used.Name is nameof(CompanyRun.SaveResult) or nameof(CompanyRun.LoadResult))
                || used is { Name: "Load", DeclaringType.Name: nameof(RunReport) }),
            bundled = GenericUses.Of(core, used => used.DeclaringType == typeof(JsonFacts)
                || used is { Name: "Json", DeclaringType.Name: nameof(SupportBundle) });
        Assert.True(kept.Count > 6 && bundled.Count > 10, $"only {kept.Count} and {bundled.Count} types were found");
        Assert.Empty(kept.Where(type => RunsJson.Form.GetTypeInfo(type) is null).Select(type => type.ToString()));
        Assert.Empty(bundled.Where(type => SupportJson.Form.GetTypeInfo(type) is null).Select(type => type.ToString()));
    }
}
