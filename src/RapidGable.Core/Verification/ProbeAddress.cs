using System.Text;

namespace RapidGable.Verification;

/// <summary>Addresses as they are sent.</summary>
public static class ProbeAddress
{
    /// <summary>
    /// The address with characters beyond ASCII percent-encoded as UTF-8 (RFC 3987, 3.1), and otherwise as it is: decoding and
    /// encoding what is encoded already would change keys with special characters.
    /// </summary>
    /// <exception cref="UriFormatException">When it is no absolute address.</exception>
    public static Uri Of(string url) => new(Ascii(url), new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true });

    private static string Ascii(string url)
    {
        if (System.Text.Ascii.IsValid(url))
            return url;
        var text = new StringBuilder(url.Length * 2);
        foreach (var value in Encoding.UTF8.GetBytes(url))
        {
            if (value < 0x80)
                text.Append((char)value);
            else
                text.Append('%').Append(value.ToString("X2", System.Globalization.CultureInfo.InvariantCulture));
        }
        return text.ToString();
    }
}
