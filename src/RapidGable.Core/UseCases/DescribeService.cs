using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Changes;
using RapidGable.Metadata.OpenApi;
using RapidGable.Model;
using RapidGable.Publishing;

namespace RapidGable.UseCases;

/// <summary>What a caller may do with a service, as descriptions of its faces need it.</summary>
public static class DescribeService
{
    /// <summary>The facts of one caller.</summary>
    /// <param name="service">As a face shows it.</param>
    /// <param name="root">The service's absolute address, with a slash at its end.</param>
    public static OpenApiFacts Of(PublishedService service, Caller caller, string root, ImmutableArray<OpenApiSignIn> signIn)
    {
        var (seen, addressed) = (service.ModelFor(caller), service.ChangeableBy(caller));
        var anyone = service.ChangeableBy(Caller.Anonymous);
        var sets = addressed
            .Sets.Select(s =>
                Of(service, caller, s, seen.FindSet(s.Name) is not null, anyone.FindSet(s.Name)?.Operations ?? SetOperations.None)
            )
            .ToImmutableArray();
        return new OpenApiFacts(addressed, sets, root, service.Revision, signIn)
        {
            TakesSql = service.MaySendSql(caller),
            TakesSqlOfAnyone = service.MaySendSql(Caller.Anonymous),
        };
    }

    private static OpenApiSet Of(PublishedService service, Caller caller, EntitySet set, bool isRead, SetOperations anyone)
    {
        var operations = isRead ? set.Operations : set.Operations & ~SetOperations.Read;
        var create =
            set.IsFunction || !operations.HasFlag(SetOperations.Create) ? null : service.Writing(set, SetOperations.Create, caller);
        var update =
            set.IsFunction || !operations.HasFlag(SetOperations.Update) ? null : service.Writing(set, SetOperations.Update, caller);
        var created = create is null ? [] : Members(create, set, SetOperations.Create);
        return new OpenApiSet(
            set,
            operations,
            created,
            update is null ? [] : Members(update, set, SetOperations.Update),
            update is null ? [] : [.. set.Type.Properties.Where(p => IsStream(p) && update.Of(p) == ColumnAccess.Open).Select(p => p.Name)],
            anyone,
            (IsLimited(create) ? SetOperations.Create : SetOperations.None)
                | (IsLimited(update) ? SetOperations.Update : SetOperations.None),
            create is not null && set.Type.Key.All(k => k is { IsComputed: false, HasComputedDefault: false, Maker: null })
        );
    }

    private static bool IsLimited(WriteAccess? access) =>
        access is not null && (!access.Closed.IsEmpty || access.Before is RestrictedSource || access.After is RestrictedSource);

    private static bool IsStream(Property property) => property.Type.Kind == EdmKind.Stream;

    private static ImmutableArray<OpenApiMember> Members(WriteAccess access, EntitySet seen, SetOperations operation)
    {
        bool IsOpen(Property property) => access.Of(property) == ColumnAccess.Open && !IsStream(property);
        bool IsNeeded(Property property) =>
            operation == SetOperations.Create ? SentMembers.NeedsValue(property) : SentMembers.NeedsValue(property) && IsOpen(property);
        return
        [
            .. access
                .Set.Type.Properties.Select(p => p.IsGroup ? p with { Members = [.. p.Members.Where(IsOpen)] } : p)
                .Where(p => p.IsGroup ? !p.Members.IsEmpty : IsOpen(p))
                .Where(p => p.Column != access.Set.Version?.Column)
                .Select(p => new OpenApiMember(p, !p.IsGroup ? IsNeeded(p) : p.Members.Any(IsNeeded))),
        ];
    }
}
