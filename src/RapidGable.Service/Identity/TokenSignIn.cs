using System.Collections.Immutable;
using System.Text.Json;
using Microsoft.Extensions.Logging;
using Microsoft.IdentityModel.JsonWebTokens;
using Microsoft.IdentityModel.Tokens;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// Finds out whom a signed token stands for (JSON Web Token, RFC 7519; best practices of RFC 8725): one of the declared issuers made
/// it, for
/// this service, with a public-key signature of a key in its set, and it has an end that has not come.
/// </summary>
internal sealed class TokenSignIn(ServiceRegistry registry, KeySets keys, TimeProvider time, ILogger<TokenSignIn> log)
{
    private static readonly TimeSpan ClockSkew = TimeSpan.FromMinutes(1);

    // No shared secrets: who could check such a token could make one.
    private static readonly string[] Algorithms = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512"];

    private readonly JsonWebTokenHandler _handler = new() { MaximumTokenSizeInBytes = Limits.TokenBytes, MapInboundClaims = false };

    /// <summary>Whether a bearer token has the form of one: three parts.</summary>
    public static bool IsToken(string text) => text.Count(c => c == '.') == 2;

    public async ValueTask<Result<Caller>> CallerOfAsync(string text, CancellationToken cancellation)
    {
        if (text.Length > Limits.TokenBytes)
            return Refused($"The token is longer than {Limits.TokenBytes} characters.");
        JsonWebToken token;
        try
        {
            token = _handler.ReadJsonWebToken(text);
        }
        catch (Exception exception) when (exception is ArgumentException or SecurityTokenException or JsonException)
        {
            return Refused("The token cannot be read.");
        }
        var declared = registry.Workspace.Declaration.SignIn.Tokens.Where(t => t.Issuer.Value == token.Issuer).ToList();
        if (declared.Count == 0)
            return Refused("The token's issuer is not one that is believed here.");
        var issuer = declared.Find(d => token.Audiences.Contains(d.Audience.Value));
        if (issuer is null)
            return Refused("The token is made for somebody else.");
        if (!Algorithms.Contains(token.Alg))
            return Refused("The token is not signed in a way that is believed here.");
        var result = await ValidateAsync(token, issuer, cancellation);
        if (!result.IsValid)
        {
            log.LogInformation("A token was refused: {Reason}", result.Exception?.GetType().Name);
            return Refused(
                result.Exception is SecurityTokenExpiredException ? "The token's time is over."
                : result.Exception is SecurityTokenNotYetValidException ? "The token's time has not come."
                : result.Exception is SecurityTokenNoExpirationException ? "The token has no end."
                : "The token is not signed by its issuer."
            );
        }
        return CallerOf(token, issuer);
    }

    private async Task<TokenValidationResult> ValidateAsync(JsonWebToken token, TokenDeclaration issuer, CancellationToken cancellation)
    {
        TokenValidationParameters With(IReadOnlyList<SecurityKey> known) =>
            new()
            {
                ValidIssuer = issuer.Issuer.Value,
                ValidAudience = issuer.Audience.Value,
                ValidAlgorithms = Algorithms,
                IssuerSigningKeys = known,
                TryAllIssuerSigningKeys = string.IsNullOrEmpty(token.Kid),
                LifetimeValidator = IsInTime,
            };
        var result = await _handler.ValidateTokenAsync(token, With(await keys.OfAsync(issuer, renew: false, cancellation)));
        // The issuer may have begun to sign with a key that came after we asked for its set.
        return
            result.Exception is SecurityTokenSignatureKeyNotFoundException
            && await keys.OfAsync(issuer, renew: true, cancellation) is var renewed
            ? await _handler.ValidateTokenAsync(token, With(renewed))
            : result;
    }

    private bool IsInTime(DateTime? notBefore, DateTime? expires, SecurityToken token, TokenValidationParameters parameters)
    {
        var now = time.GetUtcNow().UtcDateTime;
        if (expires is not { } end)
            throw new SecurityTokenNoExpirationException();
        if (end + ClockSkew <= now)
            throw new SecurityTokenExpiredException();
        return notBefore is not { } start || start - ClockSkew <= now ? true : throw new SecurityTokenNotYetValidException();
    }

    private static Result<Caller> CallerOf(JsonWebToken token, TokenDeclaration issuer)
    {
        using var claims = JsonDocument.Parse(Base64UrlEncoder.Decode(token.EncodedPayload));
        var name = Texts(claims.RootElement, issuer.NameClaim);
        if (name is not [{ Length: > 0 and <= 200 } own] || own.Any(char.IsControl))
            return Refused($"The token does not say who it is for: it has no claim '{issuer.NameClaim}' with one text.");
        var roles = Texts(claims.RootElement, issuer.RolesClaim);
        if (roles is [var joined])
            roles = [.. joined.Split([' ', ','], StringSplitOptions.RemoveEmptyEntries)];
        var attributes = issuer.Attributes.SelectMany(a => Texts(claims.RootElement, a.Claim).Select(v => (a.Attribute, v))).ToList();
        if (attributes.Exists(a => a.v.Any(char.IsControl)))
            return Refused("A claim of the token holds characters that no value has.");
        return new Caller(true, [.. roles]) { Name = own, Attributes = Caller.AttributesOf(attributes) };
    }

    /// <summary>The texts of a claim: of the one with this name, else of one inside of objects, with dots between the names.</summary>
    private static ImmutableArray<string> Texts(JsonElement claims, string claim)
    {
        if (!claims.TryGetProperty(claim, out var found))
        {
            found = claims;
            foreach (var step in claim.Split('.'))
            {
                if (found.ValueKind != JsonValueKind.Object || !found.TryGetProperty(step, out found))
                    return [];
            }
        }
        return found.ValueKind == JsonValueKind.Array ? [.. found.EnumerateArray().SelectMany(Text)] : [.. Text(found)];
    }

    private static IEnumerable<string> Text(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.String => [value.GetString()!],
            JsonValueKind.Number => [value.GetRawText()],
            JsonValueKind.True => ["true"],
            JsonValueKind.False => ["false"],
            _ => [],
        };

    private static RequestFault Refused(string message) => new(401, "token", message, "Authorization");
}
