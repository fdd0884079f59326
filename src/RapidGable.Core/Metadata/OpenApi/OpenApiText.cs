using System.Collections.Frozen;
using System.Text;
using System.Text.Json;
using Microsoft.OpenApi;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace RapidGable.Metadata.OpenApi;

/// <summary>A description as text.</summary>
internal static class OpenApiText
{
    // Some readers take these for other things than texts.
    private static readonly FrozenSet<string> Words = ["y", "n", "yes", "no", "on", "off", "true", "false", "null", "-"];

    /// <summary>The description in one of its forms, in UTF-8.</summary>
    public static async Task<byte[]> WriteAsync(OpenApiDocument document, OpenApiForm form, CancellationToken cancellation)
    {
        using var stream = new MemoryStream();
        var version = form.IsOlder ? OpenApiSpecVersion.OpenApi3_0 : OpenApiSpecVersion.OpenApi3_1;
        await document.SerializeAsync(stream, version, OpenApiConstants.Json, cancellation);
        return form.IsYaml ? Yaml(stream.ToArray()) : stream.ToArray();
    }

    /// <summary>
    /// JSON as YAML, each text in quotes: a revision such as 903e42 would be a number without them, and a status is a text in OpenAPI.
    /// </summary>
    private static byte[] Yaml(byte[] json)
    {
        using var document = JsonDocument.Parse(json);
        var text = new StringWriter { NewLine = "\n" };
        var emitter = new Emitter(text, new EmitterSettings().WithBestWidth(int.MaxValue));
        emitter.Emit(new StreamStart());
        emitter.Emit(new DocumentStart(null, null, isImplicit: true));
        Emit(emitter, document.RootElement);
        emitter.Emit(new DocumentEnd(isImplicit: true));
        emitter.Emit(new StreamEnd());
        return Encoding.UTF8.GetBytes(text.ToString());
    }

    private static void Emit(Emitter emitter, JsonElement value)
    {
        switch (value.ValueKind)
        {
            case JsonValueKind.Object:
                emitter.Emit(new MappingStart(null, null, isImplicit: true, MappingStyle.Block));
                foreach (var member in value.EnumerateObject())
                {
                    emitter.Emit(Scalar(member.Name, isText: !IsPlain(member.Name)));
                    Emit(emitter, member.Value);
                }
                emitter.Emit(new MappingEnd());
                break;
            case JsonValueKind.Array:
                emitter.Emit(new SequenceStart(null, null, isImplicit: true, SequenceStyle.Block));
                foreach (var item in value.EnumerateArray())
                    Emit(emitter, item);
                emitter.Emit(new SequenceEnd());
                break;
            case JsonValueKind.String:
                emitter.Emit(Scalar(value.GetString()!, isText: true));
                break;
            default:
                emitter.Emit(Scalar(value.GetRawText(), isText: false));
                break;
        }
    }

    /// <summary>Whether a name is a text without quotes, too.</summary>
    private static bool IsPlain(string name) =>
        name.All(c => char.IsAsciiLetter(c) || c == '-') && !Words.Contains(name.ToLowerInvariant());

    private static Scalar Scalar(string text, bool isText) =>
        new(null, null, text, isText ? ScalarStyle.DoubleQuoted : ScalarStyle.Plain, isPlainImplicit: true, isQuotedImplicit: true);
}
