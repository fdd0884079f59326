using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>The statements that call one routine.</summary>
/// <param name="parameters">All of the routine's, in its order, each with what callers give for it; null = they give nothing.</param>
/// <param name="source">As in <see cref="RowSource.Source"/>.</param>
internal sealed class RoutineCall(
    SourceRoutine routine,
    List<(RoutineParameter Own, OperationParameter? Given)> parameters,
    SqlDialect dialect,
    string source
)
{
    private IEnumerable<RoutineParameter> Returned => routine.Parameters.Where(p => p.IsGiven);

    /// <summary>What the catalog says of how much comes back.</summary>
    public QueryResult Gives =>
        routine.IsProcedure
            ? Returned.Any() || dialect.Routines == RoutineForm.Variables
                ? QueryResult.Row
                : QueryResult.Nothing
            : routine.GivesNothing
                ? QueryResult.Nothing
                : routine.GivesRows
                    ? QueryResult.Rows
                    : dialect.Routines == RoutineForm.Variables || Returned.Count() < 2
                        ? QueryResult.Value
                        : QueryResult.Row;

    /// <summary>What comes back in variables, by the catalog; null = the statement tells.</summary>
    public ImmutableArray<SourceColumn>? Columns =>
        routine.IsProcedure && dialect.Routines == RoutineForm.Variables && Returned.Any()
            ? [.. Returned.Select(p => p.Column! with { Name = p.Name })]
            : null;

    /// <summary>The statements, with the parameters where they stand in them.</summary>
    public QueryDraft Draft()
    {
        var given = parameters.Select(p => p.Given).OfType<OperationParameter>().ToImmutableArray();
        if (!routine.IsProcedure)
        {
            var text = new Pieces();
            Function(text);
            return new QueryDraft(text.Texts, text.Marks, given);
        }
        if (dialect.Routines == RoutineForm.Arguments)
        {
            var text = new Pieces();
            text.Add($"CALL {Name}(");
            Arguments(text);
            text.Add(")");
            return new QueryDraft(text.Texts, text.Marks, given);
        }
        return WithVariables(given);
    }

    private string Name => dialect.Table(routine.Schema, routine.Name);

    private void Function(Pieces text)
    {
        if (dialect.Routines == RoutineForm.Arguments)
            text.Add(routine.GivesNothing ? $"SELECT {Name}(" : $"SELECT * FROM {Name}(");
        else
            text.Add($"SELECT {Name}(");
        Arguments(text);
        text.Add(dialect.Routines == RoutineForm.Arguments ? ")" : $") AS {dialect.Quote(routine.Name)}");
    }

    /// <summary>
    /// The arguments of a call: by their names where all have one, since some may be left out; a value has just the type that the routine
    /// takes.
    /// </summary>
    private void Arguments(Pieces text)
    {
        var isNamed = dialect.Routines == RoutineForm.Arguments && parameters.TrueForAll(p => !p.Own.Name.StartsWith('$'));
        var isFirst = true;
        foreach (var (own, given) in parameters)
        {
            // A procedure takes a null in the place of what it only gives; a function has no such place.
            var isPlace = routine.IsProcedure && !own.IsTaken;
            if (given is null && !isPlace)
                continue;
            text.Add((isFirst ? "" : ", ") + (isNamed ? $"{dialect.Quote(own.Name)} => " : ""));
            isFirst = false;
            if (given is null)
                text.Add("NULL");
            else if (dialect.Routines == RoutineForm.Variables)
                text.Mark(given);
            else
                Typed(text, own, given);
        }
    }

    /// <summary>A default that is no constant stands in for what is left out.</summary>
    private static void Typed(Pieces text, RoutineParameter own, OperationParameter given)
    {
        var isOpen = own.Default is not null && given.DefaultValue is null;
        text.Add(isOpen ? "coalesce(" : "");
        text.Mark(given);
        text.Add("::" + own.DeclaredType + (isOpen ? $", ({own.Default}))" : ""));
    }

    /// <summary>What a procedure gives back by its parameters is put into variables of the session, and read from there.</summary>
    private QueryDraft WithVariables(ImmutableArray<OperationParameter> given)
    {
        var before = new List<QuerySource>();
        var call = new Pieces();
        call.Add($"CALL {Name}(");
        for (var i = 0; i < parameters.Count; i++)
        {
            var (own, value) = parameters[i];
            call.Add(i == 0 ? "" : ", ");
            if (!own.IsGiven)
            {
                call.Mark(value!);
                continue;
            }
            var set = new Pieces();
            set.Add($"SET {Variable(i)} = ");
            if (value is null)
                set.Add("NULL");
            else
                set.Mark(value);
            before.Add(set.Source(source));
            call.Add(Variable(i));
        }
        call.Add(")");
        if (before.Count == 0)
            return new QueryDraft(call.Texts, call.Marks, given);
        before.Add(call.Source(source));
        var read = parameters.Select((p, i) => (p.Own, Variable: Variable(i))).Where(p => p.Own.IsGiven);
        var last = new Pieces();
        last.Add("SELECT " + string.Join(", ", read.Select(r => $"{r.Variable} AS {dialect.Quote(r.Own.Name)}")));
        return new QueryDraft(last.Texts, last.Marks, given) { Before = [.. before] };
    }

    private static string Variable(int number) => $"@gable_{number}";

    /// <summary>A statement in the making.</summary>
    private sealed class Pieces
    {
        private readonly StringBuilder _text = new();
        private readonly ImmutableArray<string>.Builder _texts = ImmutableArray.CreateBuilder<string>();
        private readonly ImmutableArray<OperationParameter>.Builder _marks = ImmutableArray.CreateBuilder<OperationParameter>();

        public ImmutableArray<string> Texts => [.. _texts, _text.ToString()];

        public ImmutableArray<OperationParameter> Marks => _marks.ToImmutable();

        public void Add(string text) => _text.Append(text);

        public void Mark(OperationParameter parameter)
        {
            _texts.Add(_text.ToString());
            _marks.Add(parameter);
            _text.Clear();
        }

        public QuerySource Source(string source) => new(source, "") { Pieces = Texts, Parameters = Marks };
    }
}
