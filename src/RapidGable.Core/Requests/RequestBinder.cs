using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Syntax tree + model -> bound tree.</summary>
public sealed class RequestBinder
{
    private static readonly string[] CollectionOptions = ["$filter", "$orderby", "$skip", "$top", "$count", "$skiptoken"];
    private static readonly string[] LaterSegments = ["$ref", "$batch", "$all", "$crossjoin", "$entity", "$query", "$filter", "$each"];

    private readonly EntityModel _model;
    private readonly RequestSyntax _syntax;

    private RequestBinder(EntityModel model, RequestSyntax syntax)
    {
        _model = model;
        _syntax = syntax;
    }

    /// <param name="model">Only what the caller may know of: names outside it are unknown names.</param>
    public static Result<BoundRequest> Bind(RequestSyntax syntax, EntityModel model)
    {
        try
        {
            return new RequestBinder(model, syntax).Bind();
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private BoundRequest Bind()
    {
        var path = BindPath();
        CheckOptions(path);
        if (path.Kind is ResourceKind.ServiceDocument or ResourceKind.Metadata)
            return new BoundRequest(path, null);
        var set = path.Target;
        var isProperty = path.Kind is ResourceKind.PropertyValue or ResourceKind.RawValue or ResourceKind.Count;
        var binder = Expressions(set, "$orderby");
        var request = new BoundRequest(path, isProperty ? null : BindSelect(_syntax.Select, set.Type, "$select"))
        {
            Filter = _syntax.Filter is { } filter ? Expressions(set, "$filter").BindCondition(filter) : null,
            OrderBy = [.. _syntax.OrderBy.Select(o => new BoundOrderTerm(binder.BindOrder(o.Expression), o.Descending))],
            Expand = isProperty ? [] : BindExpand(set.Type),
            // Paging has no meaning for a plain count (URL conventions 4.8).
            Top = isProperty ? null : _syntax.Top,
            Skip = isProperty ? null : _syntax.Skip,
            Count = _syntax.Count && !isProperty,
            SkipTokenNulls = _syntax.SkipTokenNulls,
        };
        if (request.SkipTokenNulls is { } position && position.Length != (set.IsUnkeyed ? 1 : request.TotalOrder.Length))
            throw new FaultException(RequestFault.ForeignSkipToken);
        return request;
    }

    private ExpressionBinder Expressions(EntitySet set, string option) => new(_model, set, option, Text(option));

    private string Text(string option) => _syntax.Texts.GetValueOrDefault(option, "");

    private BoundPath BindPath()
    {
        var segments = _syntax.Path;
        if (segments.Length == 0)
            return new BoundPath(ResourceKind.ServiceDocument, null, null, [], null);
        var first = segments[0];
        if (first.Name == "$metadata")
            return segments.Length == 1 && first.Key is null ? new BoundPath(ResourceKind.Metadata, null, null, [], null)
                : throw NotFound("Nothing follows $metadata.");
        if (first.IsSystem)
            throw System(first.Name, "the service root");
        if (_model.FindSet(first.Name) is not { } root)
            throw NotFound($"There is no resource '{first.Name}'.{NearestName.Hint(first.Name, _model.Sets.Where(s => s.ContainedIn is null).Select(s => s.Name))}");
        if (root.ContainedIn is { } container)
            throw NotFound($"'{root.Name}' are parts of {container} and found there: {container}(…)/{_model.FindSet(container)?.Type.Navigations.FirstOrDefault(n => n.IsContained && n.TargetSet == root.Name)?.Name}.");
        if (root.IsUnkeyed && first.Key is { Length: > 0 })
            throw NotFound($"The rows of '{root.Name}' have no key; it is called without arguments, as in {root.Name}().");
        var rootKey = first.Key is { } key && !root.IsUnkeyed ? BindKey(key, root, first.Name) : null;
        var hops = ImmutableArray.CreateBuilder<BoundHop>();
        var set = root;
        var single = rootKey is not null;
        for (var i = 1; i < segments.Length; i++)
        {
            var segment = segments[i];
            var rest = segments.Length - i - 1;
            if (segment.IsSystem)
                return new BoundPath(EndSegment(segment, single, rest), root, rootKey, hops.ToImmutable(), null);
            if (!single)
                throw NotFound(segment.Name.Contains('.') ? $"There is no type or operation '{segment.Name}'."
                    : $"'{segment.Name}' cannot follow a collection; say which entity, as in {segments[i - 1].Name}({KeyExample(set)}).");
            if (set.Type.FindNavigation(segment.Name) is { } navigation)
            {
                var target = _model.Target(navigation);
                if (segment.Key is not null && !navigation.IsCollection)
                    throw NotFound($"'{segment.Name}' is one entity and takes no key.");
                var hopKey = segment.Key is { } parts ? BindKey(navigation.IsContained ? Completed(parts, navigation, target) : parts, target, segment.Name, navigation.IsContained ? navigation : null) : null;
                if (navigation.IsRemote && hops.Any(h => h.Navigation.IsRemote))
                    throw new FaultException(RequestFault.NotImplemented($"'{segment.Name}' leads to another database a second time, which is not supported.", "path"));
                hops.Add(new BoundHop(navigation, target, hopKey));
                set = target;
                single = hopKey is not null || !navigation.IsCollection;
                continue;
            }
            if (set.Type.FindProperty(segment.Name) is not { } property || segment.Key is not null)
                throw NotFound($"'{set.Type.Name}' has no property '{segment.Name}'.{NearestName.Hint(segment.Name, set.Type.MemberNames)}");
            return PropertyPath(property, segments, i, new BoundPath(ResourceKind.PropertyValue, root, rootKey, hops.ToImmutable(), property));
        }
        return new BoundPath(single ? ResourceKind.Entity : ResourceKind.Collection, root, rootKey, hops.ToImmutable(), null);
    }

    /// <summary>What follows a property: a member of a complex one, $value, or nothing. A stream is its content (Protocol 11.2.4.1).</summary>
    private static BoundPath PropertyPath(Property property, ImmutableArray<SegmentSyntax> segments, int index, BoundPath path)
    {
        var isStream = property.Type.Kind == EdmKind.Stream;
        if (index == segments.Length - 1)
            return path with { Kind = isStream ? ResourceKind.RawValue : ResourceKind.PropertyValue };
        var next = segments[index + 1];
        if (property.Type is { Complex: { } complex, IsCollection: false } && !next.IsSystem)
        {
            var member = property.Members.FirstOrDefault(m => m.Name == next.Name);
            if (complex.FindProperty(next.Name) is null || next.Key is not null)
                throw NotFound($"'{complex.Name}' has no property '{next.Name}'.{NearestName.Hint(next.Name, complex.Properties.Select(p => p.Name))}");
            return member is null ? throw new FaultException(RequestFault.NotImplemented($"'{property.Name}' is kept as JSON, and its members are not addressed one by one.", "path"))
                : PropertyPath(member, segments, index + 1, path with { Property = member, Group = property });
        }
        if (property.Type.IsCollection && next.Name == "$count")
            throw new FaultException(RequestFault.NotImplemented($"The values of '{property.Name}' are not counted one by one.", "path"));
        if (next.Name == "$value" && index + 2 == segments.Length && !isStream && !property.Type.IsCollection && property.Type.Kind != EdmKind.Complex)
            return path with { Kind = ResourceKind.RawValue };
        throw NotFound(isStream ? $"Nothing can follow '{property.Name}', which is a stream." : property.Type.IsCollection || property.Type.Kind == EdmKind.Complex ? $"'{next.Name}' cannot follow '{property.Name}'." : $"Nothing but $value can follow '{property.Name}', which is a single value.");
    }

    /// <summary>The key of a contained entity may leave out what its container says already (URL conventions 4.3.2).</summary>
    private static ImmutableArray<KeyPartSyntax> Completed(ImmutableArray<KeyPartSyntax> parts, NavigationProperty navigation, EntitySet target)
    {
        var own = target.Type.Key.Where(k => navigation.Joins.All(j => j.Target.Column != k.Column)).ToList();
        return parts is [{ Name: null } only] && own.Count == 1 && target.Type.Key.Length > 1 ? [only with { Name = new NameSyntax(own[0].Name, 0) }] : parts;
    }

    private static ResourceKind EndSegment(SegmentSyntax segment, bool single, int rest)
    {
        if (segment.Name == "$count")
        {
            if (single)
                throw NotFound("$count follows a collection, not one entity.");
            return rest == 0 && segment.Key is null ? ResourceKind.Count : throw NotFound("Nothing follows $count.");
        }
        if (segment.Name == "$value")
            throw NotFound(single ? "The entity has no media stream; $value follows a property." : "$value follows a single value, not a collection.");
        throw System(segment.Name, "this path");
    }

    private static FaultException System(string name, string place) => LaterSegments.Contains(name)
        ? new FaultException(RequestFault.NotImplemented($"'{name}' is not supported.", "path"))
        : NotFound($"There is no '{name}' at {place}.");

    private static FaultException NotFound(string message) => new(RequestFault.NotFound(message, "path"));

    private static string KeyExample(EntitySet set) =>
        set.Type.Key.Length == 1 ? "…" : string.Join(",", set.Type.Key.Select(k => k.Name + "=…"));

    /// <param name="contained">The relation from the container, whose side of the key may be left out; null = the whole key is needed.</param>
    private static BoundKey BindKey(ImmutableArray<KeyPartSyntax> parts, EntitySet set, string segment, NavigationProperty? contained = null)
    {
        var key = set.Type.Key;
        FaultException Wrong(string message) => new(new RequestFault(400, "key", $"{message} The key of {set.Name} is written {segment}({KeyExample(set)}).", "path"));
        if (parts.Length == 1 && parts[0].Name is null && key.Length == 1)
            return new BoundKey([(key[0], BindKeyValue(key[0], parts[0].Value, Wrong))]);
        if (parts.FirstOrDefault(p => p.Name is null) is not null)
            throw Wrong(key.Length == 1 ? "There are more key values than key properties." : "Each part of this key needs its name.");
        // An alternate key is told by its names (Core.AlternateKeys).
        if (set.Type.AlternateKeys.FirstOrDefault(a => a.Select(p => p.Name).Order().SequenceEqual(parts.Select(p => p.Name!.Text).Order())) is { IsDefault: false } alternate)
            key = alternate;
        foreach (var unknown in parts.Where(p => key.All(k => k.Name != p.Name!.Text)))
            throw Wrong($"'{unknown.Name!.Text}' is not part of the key.");
        if (parts.Select(p => p.Name!.Text).Distinct().Count() < parts.Length)
            throw Wrong("A part of the key is given twice.");
        var bound = ImmutableArray.CreateBuilder<(Property, BoundLiteral)>();
        foreach (var property in key)
        {
            if (parts.FirstOrDefault(p => p.Name!.Text == property.Name) is { } part)
                bound.Add((property, BindKeyValue(property, part.Value, Wrong)));
            else if (contained?.Joins.Any(j => j.Target.Column == property.Column) != true)
                throw Wrong($"The key part '{property.Name}' is missing.");
        }
        return new BoundKey(bound.ToImmutable());
    }

    private static BoundLiteral BindKeyValue(Property property, LiteralSyntax value, Func<string, FaultException> wrong)
    {
        var type = ExpressionBinder.TypeOf(value.Kind);
        var fits = type.Kind == property.Type.Kind
            || (property.Type.IsIntegral && value.Kind == LiteralKind.Integer)
            || (property.Type.Kind == EdmKind.Decimal && value.Kind is LiteralKind.Integer or LiteralKind.Decimal)
            || (property.Type.Kind is EdmKind.Duration or EdmKind.Enum && value.Kind == LiteralKind.String);
        return fits ? new BoundLiteral(value.Slot, value.Kind, property.Type, property.Conversion is { Use: not ConvertedUse.Anything } conversion ? conversion : null)
            : throw wrong($"'{property.Name}' is {property.Type.Name}, and the value given for it is {type.Name}.");
    }

    private void CheckOptions(BoundPath path)
    {
        var allowed = path.Kind switch
        {
            ResourceKind.ServiceDocument or ResourceKind.Metadata => ["$format"],
            ResourceKind.Collection => [.. CollectionOptions, "$select", "$expand", "$format"],
            ResourceKind.Entity => ["$select", "$expand", "$format"],
            // The rest has no effect on a count, but is not wrong there (URL conventions 4.8).
            ResourceKind.Count => ["$filter", "$orderby", "$top", "$skip", "$expand", "$select", "$count", "$format"],
            _ => (string[])["$format"],
        };
        if (_syntax.Skip is not null && _syntax.SkipTokenNulls is not null)
            throw new FaultException(new RequestFault(400, "skiptoken", "$skip and $skiptoken exclude each other. Follow the next link as it is.", "$skip"));
        foreach (var option in _syntax.Options.Where(o => !allowed.Contains(o)))
            throw new FaultException(new RequestFault(400, "option-not-here", $"{option} cannot be used on {Describe(path.Kind)}.", option));
    }

    private static string Describe(ResourceKind kind) => kind switch
    {
        ResourceKind.ServiceDocument => "the service document",
        ResourceKind.Metadata => "the metadata document",
        ResourceKind.Entity => "a single entity",
        _ => "a single value",
    };

    private BoundSelect BindSelect(SelectSyntax? select, EntityType type, string option)
    {
        if (select is null)
            return new BoundSelect(type.Properties, false, []);
        var chosen = new HashSet<Property>();
        var navigations = ImmutableArray.CreateBuilder<NavigationProperty>();
        foreach (var name in select.Names)
        {
            if (type.FindProperty(name.Text) is { } property)
                chosen.Add(property);
            else if (type.FindNavigation(name.Text) is { } navigation)
                navigations.Add(navigation);
            else
                throw new FaultException(new RequestFault(400, "unknown-property",
                    $"'{type.Name}' has no property '{name.Text}'.{NearestName.Hint(name.Text, type.MemberNames)}", option, Text(option), name.Position));
        }
        var properties = select.All ? type.Properties : [.. type.Properties.Where(chosen.Contains)];
        return new BoundSelect(properties, true, navigations.ToImmutable());
    }

    private ImmutableArray<BoundExpand> BindExpand(EntityType type)
    {
        var items = ImmutableArray.CreateBuilder<BoundExpand>();
        foreach (var item in _syntax.Expand)
        {
            if (type.FindNavigation(item.Name.Text) is not { } navigation)
                throw new FaultException(new RequestFault(400, "unknown-property", type.FindProperty(item.Name.Text) is null
                    ? $"'{type.Name}' has no navigation property '{item.Name.Text}'.{NearestName.Hint(item.Name.Text, type.Navigations.Select(n => n.Name))}"
                    : $"'{item.Name.Text}' is a value, not a navigation property; it cannot be expanded.", "$expand", Text("$expand"), item.Name.Position));
            if (items.Any(i => i.Navigation == navigation))
                throw new FaultException(new RequestFault(400, "expand-twice", $"'{item.Name.Text}' is expanded twice.", "$expand", Text("$expand"), item.Name.Position));
            var target = _model.Target(navigation);
            if (!navigation.IsCollection && item.Options.FirstOrDefault(o => o.Name != "$select") is { } collective)
                throw new FaultException(RequestFault.NotImplemented($"'{item.Name.Text}' leads to one entity; {collective.Name} for it is not supported.", "$expand", Text("$expand"), item.Name.Position));
            items.Add(new BoundExpand(navigation, target, BindSelect(item.Select, target.Type, "$expand"))
            {
                Filter = item.Filter is { } filter ? Own(new ExpressionBinder(_model, target, "$expand", Text("$expand"), isFilter: true).BindCondition(filter), filter.Position) : null,
                OrderBy = [.. item.OrderBy.Select(o => NestedOrder(target, o))],
                Top = item.Top,
                Options = item.Options,
            });
        }
        return items.ToImmutable();
    }

    /// <summary>An expression over the related entity alone; paths that lead on from it are not supported there.</summary>
    private BoundExpression Own(BoundExpression expression, int position) => ExpressionPaths.Of(expression).All(p => p.IsEmpty) ? expression
        : throw new FaultException(RequestFault.NotImplemented("A path over relations inside $expand is not supported.", "$expand", Text("$expand"), position));

    private OrderTerm NestedOrder(EntitySet target, OrderTermSyntax term) =>
        Own(new ExpressionBinder(_model, target, "$expand", Text("$expand")).BindOrder(term.Expression), term.Expression.Position) is BoundProperty property
            ? new OrderTerm(property.Property, term.Descending)
            : throw new FaultException(RequestFault.NotImplemented("Inside $expand only properties can be sorted by.", "$expand", Text("$expand"), term.Expression.Position));
}
