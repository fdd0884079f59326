using System.Text;

namespace RapidGable.Service.Tests;

/// <summary>Addresses that nobody would write: good ones with pieces taken out, put in, and mixed.</summary>
internal static class MutatedAddress
{
    private const string Pieces = "'()/$,;=&?%+-.:@ *\"\\aeNT019\u00e9_";

    public static string Of(string[] seeds, Random random)
    {
        var text = new StringBuilder(seeds[random.Next(seeds.Length)]);
        for (var changes = random.Next(0, 4); changes > 0; changes--)
        {
            var at = random.Next(text.Length + 1);
            switch (random.Next(4))
            {
                case 0 when at < text.Length:
                    text.Remove(at, Math.Min(random.Next(1, 6), text.Length - at));
                    break;
                case 1:
                    text.Insert(at, Pieces[random.Next(Pieces.Length)]);
                    break;
                case 2:
                    var other = seeds[random.Next(seeds.Length)];
                    var start = random.Next(other.Length);
                    text.Insert(at, other.AsSpan(start, random.Next(other.Length - start)));
                    break;
                default:
                    text.Insert(at, $"%{random.Next(256):X2}");
                    break;
            }
        }
        return string.Concat(
            text.ToString().Select(c => c is ' ' or '"' or '\\' or '#' or > '~' ? Uri.EscapeDataString(c.ToString()) : c.ToString())
        );
    }
}
