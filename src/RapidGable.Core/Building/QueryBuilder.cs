using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>A query of the declaration, before its columns are known.</summary>
/// <param name="Pieces">As in <see cref="QuerySource.Pieces"/>.</param>
/// <param name="Marks">As in <see cref="QuerySource.Parameters"/>.</param>
/// <param name="Parameters">Each once, as declared.</param>
internal sealed record QueryDraft(
    ImmutableArray<string> Pieces,
    ImmutableArray<OperationParameter> Marks,
    ImmutableArray<OperationParameter> Parameters
)
{
    /// <summary>For what may change something: the statements before.</summary>
    public ImmutableArray<QuerySource> Before { get; init; } = [];
}

/// <summary>The statement and the parameters of a query -> what the model has of them.</summary>
internal sealed class QueryBuilder(TypeBuilder types, Diagnostics diagnostics)
{
    private readonly WritingBuilder _rules = new(diagnostics);

    /// <summary>Null when the statement or a parameter is wrong, which is then reported.</summary>
    /// <param name="select">The statement, without a semicolon at its end.</param>
    public QueryDraft? Build(SetDeclaration set, Located<string> select, SqlDialect dialect)
    {
        var name = set.From.Value;
        if (Statements(set, select, dialect) is not { } statements)
            return null;
        var marks = statements.SelectMany(s => s.Marks).ToList();
        var declared = set.Query?.Parameters ?? [];
        var isSound = true;
        foreach (var mark in marks.Where(m => declared.All(p => p.Name.Value != m.Name)).DistinctBy(m => m.Name))
        {
            isSound = false;
            var hint = NearestName.Hint(mark.Name, declared.Select(p => p.Name.Value));
            Wrong(name, $"':{mark.Name}' is no declared parameter.{hint}", select, mark.Position);
        }
        foreach (var unused in declared.Where(p => marks.TrueForAll(m => m.Name != p.Name.Value)))
        {
            isSound = false;
            diagnostics.Error(
                "query",
                $"The statement of '{name}' does not use the parameter '{unused.Name.Value}'.",
                unused.Name.Location,
                $"Write :{unused.Name.Value} where its value belongs, or take the parameter away."
            );
        }
        var built = declared.Select(p => Parameter(p, dialect, null)).ToList();
        if (!isSound || built.Contains(null))
            return null;
        var parameters = built.OfType<OperationParameter>().ToImmutableArray();
        ImmutableArray<OperationParameter> Of(SqlMarks statement) =>
            [.. statement.Marks.Select(m => parameters.First(p => p.Placeholder == m.Name))];
        return new QueryDraft(statements[^1].Pieces, Of(statements[^1]), parameters)
        {
            Before =
            [
                .. statements.SkipLast(1).Select(s => new QuerySource(set.Source.Value, "") { Pieces = s.Pieces, Parameters = Of(s) }),
            ],
        };
    }

    /// <summary>One statement, or all of what may change something; null when they are wrong, which is then reported.</summary>
    private ImmutableArray<SqlMarks>? Statements(SetDeclaration set, Located<string> select, SqlDialect dialect)
    {
        var script = set.Query?.Changes == true ? SqlScript.Read(select.Value, dialect.Lexis) : null;
        var single = script is null ? SqlMarks.Read(select.Value, dialect.Lexis) : null;
        if ((script?.Fault ?? single?.Fault) is not { } fault)
            return script?.Statements ?? [single!];
        Wrong(set.From.Value, fault, select, script?.FaultPosition ?? single!.FaultPosition);
        return null;
    }

    /// <summary>The statement as the engine describes it, with values for its parameters to try it with.</summary>
    public static (string Sql, StoredValue[] Arguments) Trial(QueryDraft query, SqlDialect dialect) =>
        Trial(query.Pieces, query.Marks, dialect);

    /// <summary>The same of a query that is published.</summary>
    public static (string Sql, StoredValue[] Arguments) Trial(QuerySource query, SqlDialect dialect) =>
        Trial(query.Pieces, query.Parameters, dialect);

    private static (string Sql, StoredValue[] Arguments) Trial(
        ImmutableArray<string> pieces,
        ImmutableArray<OperationParameter> marks,
        SqlDialect dialect
    )
    {
        var parameters = marks.Distinct().ToList();
        string Placeholder(OperationParameter parameter) =>
            dialect.Argument(parameters.IndexOf(parameter) + 1, parameter.Conversion?.Parameter ?? parameter.Type, parameter.StorageForm);
        var sql = string.Concat(pieces.Zip(marks, (piece, mark) => piece + Placeholder(mark))) + pieces[^1];
        return (sql, [.. parameters.Select(p => Stored(p, dialect))]);
    }

    private static StoredValue Stored(OperationParameter parameter, SqlDialect dialect)
    {
        var value = Lexer.Plain(parameter.Sample, parameter.Type);
        if (value is not null && parameter.Conversion is { } conversion)
            return conversion.Encode(value) is { } stored ? dialect.Encode(stored, conversion.Parameter, null) : StoredValue.Null;
        return value is null ? StoredValue.Null : dialect.Encode(value, parameter.Type, parameter.StorageForm);
    }

    private void Wrong(string name, string message, Located<string> select, int position) =>
        diagnostics.Error(
            "select",
            $"The statement of '{name}' cannot be published: {message}",
            Place(select, position),
            Line(select, position)
        );

    /// <summary>Where in a file of its own a position of a statement is; one within YAML is told by the line of the statement.</summary>
    private static SourceLocation Place(Located<string> select, int position)
    {
        if (select.Location.Line > 0)
            return select.Location;
        var before = select.Value[..position];
        var start = before.LastIndexOf('\n') + 1;
        var text = select.Value[start..].Split('\n')[0].TrimEnd('\r');
        return new SourceLocation(select.Location.File, before.Count(c => c == '\n') + 1, position - start + 1, 1, text);
    }

    private static string? Line(Located<string> select, int position) =>
        select.Location.Line > 0 ? $"It stands in line {select.Value[..position].Count(c => c == '\n') + 1} of the statement." : null;

    /// <summary>A parameter as the model has it; null when it is wrong, which is then reported.</summary>
    /// <param name="own">For a parameter of a routine: what the catalog says of it.</param>
    public OperationParameter? Parameter(ParameterDeclaration declared, SqlDialect dialect, SourceColumn? own)
    {
        var (name, word) = (declared.Public?.Value ?? declared.Name.Value, declared.Column.Type);
        if ((word is null ? own?.Type : types.Parse(word)) is not { } type)
            return null;
        if (type.IsCollection || type.Kind is EdmKind.Complex or EdmKind.Stream)
        {
            diagnostics.Error(
                "query",
                $"The parameter '{name}' is {type.Name}, and a parameter is a single plain value.",
                (word ?? declared.Name).Location
            );
            return null;
        }
        if (Stored(declared, type) is not { } property)
            return null;
        property = _rules.Apply(property, declared.Column);
        var rules = type.MaxLength is { } longest
            ? property.Rules with
            {
                MaxLength = Math.Min(longest, property.Rules.MaxLength ?? longest),
            }
            : property.Rules;
        var parameter = new OperationParameter(name, type, !declared.IsRequired)
        {
            Description = declared.Column.Description?.Value,
            Definition = types.DefinitionOf(word?.Value),
            Rules = rules,
            Conversion = property.Conversion,
            StorageForm = property.Conversion is null ? dialect.ArgumentForm(type) : null,
            DefaultValue = Text(declared.Default, name, type, rules) ?? own?.DefaultValue,
            Example = Text(declared.Example, name, type, rules),
            TakenFrom = declared.TakenFrom?.Value.TrimStart('@'),
        };
        Check(declared, parameter);
        return parameter;
    }

    /// <summary>The parameter as a property that is stored in the way in which the statement takes its values.</summary>
    private Property? Stored(ParameterDeclaration declared, EdmType type)
    {
        var name = declared.Name.Value;
        var stored = type;
        if (type.Enum is { } members)
            stored = members.Members.All(m => long.TryParse(m.Stored, out _)) ? EdmType.Int64 : EdmType.String;
        else if (declared.Column.Unit is not null)
            stored = EdmType.Int64;
        else if (declared.Column.Format is not null)
            stored = EdmType.String;
        return new ConversionBuilder(diagnostics).Apply(new Property(name, stored, true, name), type, declared.Column);
    }

    private string? Text(Located<string>? text, string name, EdmType type, ValueRules rules)
    {
        if (text is null)
            return null;
        if (Lexer.Plain(text.Value, type) is not { } value)
            diagnostics.Error("query", $"'{text.Value}' is not a value of {type.Name}, which '{name}' is.", text.Location);
        else if (rules.Fault(value) is { } wrong)
            diagnostics.Error("query", $"'{text.Value}' {wrong}, and '{name}' takes no such value.", text.Location);
        return text.Value;
    }

    private void Check(ParameterDeclaration declared, OperationParameter parameter)
    {
        if (declared.TakenFrom is { } taken)
        {
            if (!SimpleIdentifier.IsValid(parameter.TakenFrom!))
                diagnostics.Error(
                    "query",
                    $"'{taken.Value}' is nothing that is known of callers.",
                    taken.Location,
                    "Write user, roles, or the name of an attribute."
                );
            if (declared.Example is { } example)
                diagnostics.Error("query", $"'{parameter.Name}' is taken from the caller and has no example.", example.Location);
        }
        else if (Lexer.Plain(parameter.Sample, parameter.Type) is { } sample && parameter.Rules.Fault(sample) is not null)
            diagnostics.Warning(
                "query",
                $"No value of '{parameter.Name}' can be made up, so that checks cannot call the query.",
                declared.Name.Location,
                "Write an 'example'."
            );
        if (RestShape.ListParameters.Contains(parameter.Name))
            diagnostics.Error(
                "query",
                $"'{parameter.Name}' is a parameter of every list on the plain REST face.",
                declared.Name.Location,
                "Give it another name, here and in the statement."
            );
    }
}
