using System.Text.Json.Nodes;

namespace RapidGable.Declarations;

/// <summary>The parts of the schemas about queries.</summary>
public static partial class FileSchemas
{
    private static JsonObject QueryGroup() =>
        Object(
            ["title", "queries"],
            ("title", Text("What people call the group.")),
            ("description", Text("For people.")),
            ("enabled", Flag("false: none of its queries is published.")),
            ("queries", List("The queries of the group.", Query()))
        );

    private static JsonObject Query() =>
        Object(
            ["name"],
            ("name", Name("Public name of the query.")),
            ("select", Text("The SELECT, or with 'changes' the statements, with parameters as :name.")),
            ("file", Text("A file beside the service's that holds it, such as near.sql.")),
            ("routine", Text("A function or procedure of the database, with its schema or the types of its parameters where needed.")),
            ("commits", Flag("true: the routine ends transactions by itself, so that it is never a part of one.")),
            ("changes", Flag("true: it may change something, so that it is called by POST, in one transaction.")),
            ("source", Text("Its source, when it is another than the service's.")),
            ("parameters", Map("Parameter: its type, or what is said of it.", OneOf(Text("The type."), Parameter()), Identifier)),
            ("gives", Words("Rows, one row at most, the value of its one column, or nothing.", SetReader.ResultWords)),
            ("bound-to", Text("A set: the query is asked of one of its entities, whose key its parameters take.")),
            ("of", Text("A set: the query gives its entities, which it names by columns called like those of the set's key.")),
            ("type", Name("Name of the type of its rows.")),
            ("description", Text("For people.")),
            ("deprecated", Deprecated()),
            ("faces", NamedFaces()),
            ("rest", RestSet()),
            ("key", OneOrMany("Columns that identify a row; with one, pages go on where the last one ended.")),
            ("hide", OneOrMany("Columns that callers never see.")),
            ("show", OneOrMany("The only columns that callers see, in this order.")),
            ("rename", Map("Column: public name.", Name(null), null)),
            ("columns", Map("Column: its type, or what is said of it.", OneOf(Text("The type."), Column()), null)),
            ("group", Group()),
            ("order", OneOrMany("Columns of the default order, each with 'desc' behind it or not.")),
            ("page", Number("Rows in a page.", 1, 1_000_000)),
            ("largest-page", Number("The largest page that a caller may ask for.", 1, 1_000_000)),
            ("rules", Rules())
        );

    private static JsonObject Parameter() =>
        Object(
            [],
            ("name", Name("For a parameter of a routine: the name that callers see.")),
            ("type", Text("A type of the standard, with facets as in string(40), or an enumeration of the service.")),
            ("description", Text("For people.")),
            ("required", Flag("A value must be given; else it is null, or the default. True when left out.")),
            ("default", Scalar("The value when none is given.")),
            ("example", Scalar("A value that shows what is meant; checks call the query with it.")),
            ("key", Text("With bound-to: the column of the set's key that it takes. Left out where it is called like the column.")),
            ("taken-from", Scalar("What of the caller the service takes for it: user, roles, or an attribute. Callers cannot set it.")),
            ("format", Scalar("How the statement takes a date or time, such as dd.MM.yyyy.")),
            ("unit", Words("What the statement counts time in.", "microseconds", "milliseconds", "seconds", "minutes", "hours", "days")),
            ("minimum", Scalar("The least value.")),
            ("maximum", Scalar("The largest value.")),
            ("min-length", Number("Characters at least.", 0, int.MaxValue)),
            ("max-length", Number("Characters at most.", 1, int.MaxValue)),
            ("pattern", Text("A regular expression that the whole text matches.")),
            ("values", OneOrMany("The only values.")),
            ("message", Text("What people are told when a value is refused."))
        );
}
