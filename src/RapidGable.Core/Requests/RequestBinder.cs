using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Syntax tree + model -> bound tree.</summary>
public sealed class RequestBinder
{
    private static readonly string[] CollectionOptions =
    [
        "$filter",
        "$search",
        "$orderby",
        "$skip",
        "$top",
        "$count",
        "$skiptoken",
        "$apply",
        "$deltatoken",
    ];
    private static readonly string[] EntityOptions = ["$select", "$expand", "$compute", "$format", "$schemaversion"];

    private readonly EntityModel _model;
    private readonly RequestSyntax _syntax;

    private RequestBinder(EntityModel model, RequestSyntax syntax)
    {
        _model = model;
        _syntax = syntax;
    }

    /// <param name="model">Only what the caller may know of: names outside it are unknown names.</param>
    /// <param name="forChange">The request changes what it addresses.</param>
    public static Result<BoundRequest> Bind(RequestSyntax syntax, EntityModel model, bool forChange = false)
    {
        try
        {
            return new RequestBinder(model, syntax).Bind(forChange);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private BoundRequest Bind(bool forChange)
    {
        var path = BindPath(forChange);
        if (forChange)
            return new BoundRequest(path, null);
        CheckOptions(path);
        if (path.Root is null)
            return new BoundRequest(path, null);
        if (path.IsCrossJoin)
            CheckCrossJoin(path.Root);
        var apply = _syntax.Apply is { } steps ? new ApplyBinder(_model, Text("$apply"), _syntax.Steps).Bind(steps, path.Target) : null;
        if (apply is { IsTransient: true } && path.IsReference)
            throw new FaultException(new RequestFault(400, "option-not-here", "What $apply makes has no references.", "$apply"));
        var set = apply?.Result ?? path.Target;
        var request = Shaped(path, apply, set);
        if (_syntax.Options.Contains("$deltatoken"))
            request = Tracked(request);
        if (path.IsCrossJoin)
            request = request with { OrderBy = [.. request.OrderBy, .. KeysOfAll(path.Root)] };
        Check(request, set);
        return request;
    }

    private BoundPath BindPath(bool forChange)
    {
        BoundExpression Condition(EntitySet set, ExpressionSyntax filter) =>
            new ExpressionBinder(_model, set, "path", "", isFilter: true) { Steps = _syntax.Steps }.BindCondition(filter);
        return new PathBinder(_model, _syntax.Path, Condition) { IsForChange = forChange, Casing = _syntax.Casing }.Bind();
    }

    private void CheckCrossJoin(EntitySet root)
    {
        if (_syntax.Apply is not null)
            throw new FaultException(RequestFault.NotImplemented("$apply on $crossjoin is not supported.", "$apply"));
        if (root.Type.Navigations.Any(n => _model.Target(n).RequiresFilter) && _syntax.Filter is null)
            throw new FaultException(
                new RequestFault(
                    400,
                    "filter-required",
                    "One of the sets is not read as a whole; say which combinations with $filter.",
                    "$filter"
                )
            );
    }

    /// <summary>The request with all that its options say of rows and of what is told of them.</summary>
    private BoundRequest Shaped(BoundPath path, BoundApply? apply, EntitySet set)
    {
        var computed = ExpandBinder.Compute(_syntax.Compute, set.Type, c => Expressions(set, "$compute", c));
        var order = Expressions(set, "$orderby", computed);
        var isValue = path.Kind is ResourceKind.PropertyValue or ResourceKind.RawValue or ResourceKind.Count or ResourceKind.ValueCount;
        var select =
            isValue ? null
            : path.IsReference ? BoundSelect.Nothing
            : ExpandBinder.Select(_syntax.Select, set.Type, _model.Namespace, computed, "$select", Text("$select"));
        return new BoundRequest(path, select)
        {
            Apply = apply,
            Filter = Filter(path, apply, set, computed),
            OrderBy = [.. _syntax.OrderBy.Select(o => new BoundOrderTerm(order.BindOrder(o.Expression), o.Descending))],
            Expand = isValue ? [] : Expanded(path, set),
            // Paging has no meaning for a plain count (URL conventions 4.8).
            Top = isValue ? null : _syntax.Top,
            Skip = isValue ? null : _syntax.Skip,
            Count = _syntax.Count && !isValue,
            PositionNulls = _syntax.PositionNulls,
        };
    }

    /// <summary>The conditions of the path come before <c>$apply</c>, and are planned with it.</summary>
    private BoundExpression? Filter(
        BoundPath path,
        BoundApply? apply,
        EntitySet set,
        IReadOnlyDictionary<string, BoundComputed> computed
    ) =>
        ExpressionBinder.And([
            .. apply is null ? path.Filters : [],
            _syntax.Search is { } search ? Expressions(set, "$search", computed).BindSearch(search, set) : null,
            _syntax.Filter is { } filter ? Expressions(set, "$filter", computed).BindCondition(filter) : null,
        ]);

    private ImmutableArray<BoundExpand> Expanded(BoundPath path, EntitySet set)
    {
        // What no address leads back to has no root for nested expressions.
        var root = path.IsCrossJoin || set.IsTransient || set.IsFunction ? null : set;
        return new ExpandBinder(_model, Text("$expand"), root, _syntax.Steps).Expand(_syntax.Expand, set, 1);
    }

    private IEnumerable<BoundOrderTerm> KeysOfAll(EntitySet joined) =>
        from navigation in joined.Type.Navigations
        from key in _model.Target(navigation).Type.Key
        select new BoundOrderTerm(new BoundProperty([navigation], key), false);

    private void Check(BoundRequest request, EntitySet set)
    {
        var path = request.Path;
        var isWhole = path is { Kind: ResourceKind.Collection or ResourceKind.Count, Target.RequiresFilter: true, Hops.IsEmpty: true };
        if (isWhole && request.Filter is null && path.Filters.IsEmpty)
            throw new FaultException(
                new RequestFault(
                    400,
                    "filter-required",
                    $"'{path.Target.Name}' is not read as a whole; say which of its entities with $filter or $search.",
                    "$filter"
                )
            );
        if (ExpressionSize.Fault(request.Expressions) is { } tooLarge)
            throw new FaultException(tooLarge);
        if (request.PositionNulls is { } position && position.Length != (set.IsUnkeyed ? 1 : request.TotalOrder.Length))
            throw new FaultException(
                RequestFault.OfPosition(_syntax.PositionOrder is var (print, asked) && OrderPrint.IsFor(print, set, asked))
            );
    }

    /// <summary>
    /// A request whose caller follows changes: the options of the first request without those that pick a part of the rows (Protocol
    /// 11.3).
    /// </summary>
    private BoundRequest Tracked(BoundRequest request)
    {
        if (!request.CanTrack)
            throw new FaultException(
                new RequestFault(
                    400,
                    "option-not-here",
                    "The $deltatoken belongs to a list of entities whose changes are tracked, with $filter, $search, $compute "
                        + "and $select only. Follow the delta link as it is.",
                    "$deltatoken"
                )
            );
        return _syntax.IsDelta
            ? request with
            {
                IsDelta = true,
                OrderBy = [new BoundOrderTerm(new BoundProperty([], request.Target.Changes!.Stamp), false)],
            }
            : request;
    }

    private ExpressionBinder Expressions(EntitySet set, string option, IReadOnlyDictionary<string, BoundComputed> computed) =>
        new(_model, set, option, Text(option)) { Computed = computed, Steps = _syntax.Steps };

    private string Text(string option) => _syntax.Texts.GetValueOrDefault(option, "");

    private void CheckOptions(BoundPath path)
    {
        var allowed = path.Kind switch
        {
            ResourceKind.Collection when path.IsReference => [.. CollectionOptions, "$format", "$schemaversion"],
            ResourceKind.Collection => [.. CollectionOptions, .. EntityOptions],
            ResourceKind.Entity when !path.IsReference => EntityOptions,
            // The rest has no effect on a count, but is not wrong there (URL conventions 4.8).
            ResourceKind.Count =>
            [
                "$apply",
                "$filter",
                "$search",
                "$orderby",
                "$top",
                "$skip",
                "$expand",
                "$select",
                "$count",
                "$compute",
                "$format",
                "$schemaversion",
            ],
            _ => (string[])["$format", "$schemaversion"],
        };
        if (_syntax.Skip is not null && _syntax.PositionNulls is not null)
            throw new FaultException(
                new RequestFault(400, "skiptoken", "$skip and $skiptoken exclude each other. Follow the next link as it is.", "$skip")
            );
        foreach (var option in _syntax.Options.Where(o => !allowed.Contains(o)))
            throw new FaultException(
                new RequestFault(400, "option-not-here", $"{option} cannot be applied to {Describe(path.Kind)}.", option)
            );
    }

    private static string Describe(ResourceKind kind) =>
        kind switch
        {
            ResourceKind.ServiceDocument => "the service document",
            ResourceKind.Metadata => "the metadata document",
            ResourceKind.Entity => "a single entity",
            _ => "a single value",
        };
}
