using System.Text.Encodings.Web;

namespace RapidGable.Payloads;

/// <summary>Texts as JSON writes them.</summary>
public static class JsonText
{
    /// <summary>Payloads are UTF-8 read as JSON, never pasted into a page: letters beyond ASCII stay as they are.</summary>
    public static readonly JavaScriptEncoder Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping;
}
