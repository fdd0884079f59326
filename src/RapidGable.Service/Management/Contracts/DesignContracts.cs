using System.Text.Json;
using System.Text.Json.Nodes;
using RapidGable.Access;

namespace RapidGable.Service.Management.Contracts;

/// <summary>A change of a service's design.</summary>
/// <param name="Set">The place of the set in the file, from 0; missing = the service itself.</param>
/// <param name="Path">The words that lead to the value; see <c>DesignChange</c>.</param>
/// <param name="Value">Missing = it is removed.</param>
public sealed record DesignChangeInfo(int? Set, IReadOnlyList<JsonElement> Path, JsonElement? Value);

/// <summary>A service file after changes, what it means, and what is wrong with it.</summary>
/// <param name="Design">Missing = the text cannot be read as a service.</param>
public sealed record DesignAnswer(string File, string Text, ServiceDesignInfo? Design, IEnumerable<CheckFinding> Findings);

/// <summary>A service as it is declared, beside what becomes of it.</summary>
/// <param name="Written">The file's own words without its sets, each a text, a list or a mapping.</param>
/// <param name="Roles">That rules and accounts name.</param>
public sealed record ServiceDesignInfo(
    string Service,
    JsonObject Written,
    IEnumerable<string> Roles,
    IEnumerable<SetDesignInfo> Sets,
    IEnumerable<QueryDesignInfo> Queries
);

/// <summary>A query as it is declared, beside what becomes of it.</summary>
/// <param name="Path">The words and numbers that lead to it in the file.</param>
/// <param name="Changes">It may change something.</param>
/// <param name="IsBuilt">It is published; else its declaration has faults.</param>
/// <param name="Columns">What it gives, as the database describes it.</param>
public sealed record QueryDesignInfo(
    string Name,
    IEnumerable<JsonNode> Path,
    int Line,
    string Source,
    bool Changes,
    bool IsBuilt,
    IEnumerable<QueryParameterInfo> Parameters,
    IEnumerable<QueryColumnInfo> Columns,
    JsonObject Written
);

/// <summary>A parameter of a query.</summary>
/// <param name="TakenFrom">What of the caller it is; missing = callers give it.</param>
public sealed record QueryParameterInfo(string Name, string Type, bool IsRequired, string Sample, string? TakenFrom);

/// <summary>A column of what a query gives.</summary>
public sealed record QueryColumnInfo(string Name, string Column, string Type, bool Nullable);

/// <summary>A set as it is declared, beside what becomes of it.</summary>
/// <param name="Index">Its place in the file's list of sets, from 0.</param>
/// <param name="Line">The line in which it starts, from 1.</param>
/// <param name="Kind">Table, view or what else the catalog calls it; missing = it is not in the catalog.</param>
/// <param name="OwnName">The name that it has when none is declared.</param>
/// <param name="IsBuilt">It is published; else its declaration has faults.</param>
/// <param name="CatalogKey">The key that the database declares; empty = it declares none.</param>
/// <param name="Read">Who may read it, in words.</param>
/// <param name="Rules">Those that hold, of the service where the set has none itself.</param>
/// <param name="HasOwnRules">The set says them itself.</param>
/// <param name="Columns">In the order of the properties.</param>
/// <param name="OwnColumns">Their names in the order of the table.</param>
/// <param name="Written">Its words, each a text, a list or a mapping.</param>
public sealed record SetDesignInfo(
    int Index,
    int Line,
    string From,
    string Source,
    string? Kind,
    string? Comment,
    string Name,
    string OwnName,
    string Type,
    string OwnType,
    bool IsBuilt,
    IEnumerable<string> Key,
    IEnumerable<string> CatalogKey,
    IEnumerable<string> Allow,
    string Read,
    bool HasOwnRules,
    IEnumerable<RuleDesignInfo> Rules,
    IEnumerable<ColumnDesignInfo> Columns,
    IEnumerable<string> OwnColumns,
    IEnumerable<RelationDesignInfo> Relations,
    JsonObject Written
);

/// <summary>A rule of a set or a service.</summary>
/// <param name="Who">Roles, or one word such as <c>anyone</c>.</param>
/// <param name="Rows">The condition on rows; missing = all.</param>
public sealed record RuleDesignInfo(
    IEnumerable<string> Who,
    IEnumerable<string> May,
    bool Denies,
    string? Rows,
    IEnumerable<string> Hide,
    IEnumerable<string> Mask,
    string? WithCheck,
    int? LargestPage,
    int? LargestCost
);

/// <summary>A column as it is declared, beside the property that becomes of it.</summary>
/// <param name="Type">What it is published as; missing = it cannot be.</param>
/// <param name="OwnType">The type that it has when none is declared.</param>
/// <param name="Group">The complex property that holds it; missing = it stands by itself.</param>
public sealed record ColumnDesignInfo(
    string Column,
    string DeclaredType,
    string Name,
    string OwnName,
    string? Type,
    string? OwnType,
    string Reason,
    bool IsNullable,
    bool IsShown,
    string? Comment,
    string? Group
);

/// <summary>A way from a set to another.</summary>
/// <param name="IsDeclared">It stands in the file; else it follows a foreign key.</param>
public sealed record RelationDesignInfo(
    string Name,
    string To,
    bool IsCollection,
    string? Partner,
    IEnumerable<JoinInfo> Joins,
    bool IsDeclared
);

/// <summary>The first rows of a set as a caller gets them.</summary>
/// <param name="Body">The payload; missing = the caller gets none.</param>
/// <param name="Fault">Why not.</param>
/// <param name="Rules">What each rule does for the caller.</param>
public sealed record DesignRows(JsonNode? Body, RequestError? Fault, IEnumerable<RuleEffect> Rules);
