using System.Text.Json.Nodes;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>
/// JSON Schemas of the files of a workspace (draft 2020-12), by which editors complete and check them. They say what the
/// loader takes; that the two agree is held by a test.
/// </summary>
public static partial class FileSchemas
{
    private const string Identifier = "^[\\p{L}\\p{Nl}_][\\p{L}\\p{Nl}\\p{Nd}\\p{Mn}\\p{Mc}\\p{Pc}\\p{Cf}_]{0,127}$";

    /// <summary>The kinds of file: their folder or file name, and their schema.</summary>
    public static IReadOnlyDictionary<string, JsonObject> All =>
        new Dictionary<string, JsonObject>
        {
            ["workspace"] = Workspace(),
            ["source"] = Source(),
            ["service"] = Service(),
            ["check"] = Check(),
        };

    private const string Unrepresentable = "What becomes of values that no payload has a value for, such as zero dates and infinity.";

    private static JsonObject File(string title, JsonObject schema)
    {
        var file = new JsonObject { ["$schema"] = "https://json-schema.org/draft/2020-12/schema", ["title"] = title };
        foreach (var (name, value) in schema.ToList())
        {
            schema.Remove(name);
            file[name] = value;
        }
        return file;
    }

    private static JsonObject Workspace() =>
        File(
            "A workspace: workspace.yaml",
            Object(
                [],
                ("title", Text("What people call it.")),
                ("names", Words("How public names are made where a service says nothing.", "as-is", "pascal-case", "camel-case")),
                (
                    "faces",
                    Object(
                        [],
                        ("odata", OneOrMany("Patterns of the services, or of service/set, that stand on the OData face.")),
                        ("rest", OneOrMany("Patterns of the services, or of service/set, that stand on the plain REST face."))
                    )
                ),
                ("refresh-seconds", Number("Seconds between two looks at files and catalogs while it is served.", 1, 86_400)),
                ("sign-in", SignIn()),
                ("transport", Transport()),
                ("limits", RequestSettings()),
                ("audit", Audit()),
                ("state", State()),
                ("revisions", Object([], ("keep-days", Number("Days for which a revision is kept; for good when left out.", 1, 36_500))))
            )
        );

    private static JsonObject About() =>
        Object(
            [],
            ("version", Text("As its owner counts.")),
            ("description", Text("For people.")),
            ("owner", Text("Who answers for it.")),
            ("contact", Text("An e-mail address or a URL.")),
            ("licence", Text("Under which its data may be used.")),
            ("terms", Text("The URL of the terms of use.")),
            ("tags", OneOrMany("Words by which it is found."))
        );

    private static JsonObject Deprecated() =>
        OneOf(
            new JsonObject { ["type"] = "boolean" },
            Object(
                [],
                ("since", Text("The day from which it should not be used any more.")),
                ("until", Text("The day on which it goes.")),
                ("use", Text("What to use instead.")),
                ("why", Text("For people."))
            )
        );

    private static JsonObject Transport() =>
        Object(
            [],
            ("certificate", Text("A PEM file with the service's certificate; without it there is no TLS.")),
            ("key", Text("A PEM file with the private key, unless the certificate's file holds it.")),
            ("proxies", OneOrMany("Addresses and networks of proxies whose forwarded headers are believed.")),
            ("hosts", OneOrMany("Names by which the service may be asked; any when left out.")),
            ("hsts-days", Number("Days for which browsers come over TLS only.", 1, 3_650)),
            ("origins", OneOrMany("Origins of web pages whose scripts may read answers."))
        );

    private static JsonObject RequestSettings() =>
        Object(
            [],
            [
                ("requests-per-minute", Number("Requests of one caller in a minute.", 1, 1_000_000)),
                ("requests-at-once", Number("Requests of one caller at the same time.", 1, 10_000)),
                ("memory", Number("MiB that all requests, kept answers and plans hold.", 16, 1_000_000)),
                ("slow-seconds", Number("Seconds in the database after which a request is noted in the log; 2 unless written.", 1, 86_400)),
                ("request-memory", Number("MiB that one request holds.", 8, 100_000)),
                ("waiting", Number("Requests that wait for a session of one source.", 0, 100_000)),
                ("waiting-per-caller", Number("Requests of one caller that wait for a session of one source.", 0, 100_000)),
                ("fair-share", Flag("While others wait, no caller has more than half of the sessions; true when left out.")),
                ("download-seconds", Number("Seconds that a large answer may wait for its caller.", 1, 86_400)),
                ("download-rate", Number("KiB for each of which a large answer gets a further second.", 1, 1_000_000)),
                .. RequestLimits.Settings.Select(s => (s.Name, Number(s.Description + ".", s.Minimum, s.Maximum))),
            ]
        );

    private static JsonObject Audit() =>
        OneOf(new JsonObject { ["const"] = false }, Object([], ("days", Number("How long the notes are kept.", 1, 36_500))));

    private static JsonObject State() =>
        OneOf(new JsonObject { ["const"] = "folder" }, Object(["folder"], ("folder", Text("The folder, counted from the workspace's."))));

    private static JsonObject SignIn()
    {
        var attributes = Map("Attributes of the caller that rules ask for as @name.", Scalar(null), Identifier);
        JsonObject Attributes() => (JsonObject)attributes.DeepClone();
        JsonObject Some(JsonObject one) => OneOf(one, new JsonObject { ["type"] = "array", ["items"] = one.DeepClone() });
        return Object(
            [],
            (
                "tokens",
                Some(
                    Object(
                        ["issuer", "audience", "keys"],
                        ("issuer", Text("What the claim iss is.")),
                        ("audience", Text("What the claim aud holds.")),
                        ("keys", Text("The key set: a file of the workspace, or an https address.")),
                        ("name", Text("The claim with the caller's name; sub when left out.")),
                        ("roles", Text("The claim with the roles.")),
                        ("attributes", Attributes())
                    )
                )
            ),
            (
                "certificates",
                Some(
                    Object(
                        ["authority"],
                        ("authority", Text("A PEM file with the authority's certificates.")),
                        ("common-name", Text("The name that the certificate must have.")),
                        ("roles", OneOrMany("Roles of who has one.")),
                        ("attributes", Attributes())
                    )
                )
            ),
            (
                "proxy",
                Object(
                    ["from", "name"],
                    ("from", OneOrMany("Addresses that the proxy sends from.")),
                    ("name", Text("The header with the caller's name.")),
                    ("roles", Text("The header with their roles, joined by commas.")),
                    ("attributes", Attributes())
                )
            )
        );
    }

    private static JsonObject Source()
    {
        var schema = Object(
            ["engine"],
            ("engine", Words("The database engine.", "sqlite", "postgresql", "postgres", "mariadb", "mysql")),
            ("title", Text("What people call the database.")),
            ("description", Text("What it holds, for people.")),
            ("read-only", Flag("No set may allow changes; true when left out.")),
            (UnrepresentableWords.Name, Words(Unrepresentable, UnrepresentableWords.All)),
            ("repeats", Text("The table that keeps the answers of repeatable requests, so that they outlive the service.")),
            (
                "offer",
                Object(
                    [],
                    ("schemas", Texts("The schemas on offer; all when left out.")),
                    ("kinds", List("The kinds of object on offer.", Words(null, WorkspaceReader.OfferKinds))),
                    ("include", Texts("Patterns with * and ? of what is on offer.")),
                    ("exclude", Texts("Patterns of what is not."))
                )
            ),
            ("file", Text("SQLite: the database file, relative to the workspace.")),
            ("host", Text("The server's name.")),
            ("port", Scalar("The server's port.")),
            ("database", Text("The database on the server.")),
            ("user", Text("Who connects.")),
            ("password", Text("As ${VARIABLE}, so that it stands in no file.")),
            ("connection", Text("A whole connection string instead of the single settings.")),
            ("tls", Words("How the connection is encrypted.", "off", "prefer", "require", "verify")),
            ("tls-certificate", Text("The authority to trust.")),
            (
                "caller-settings",
                Map(
                    "PostgreSQL: settings of the session that tell the database who asks, with the attribute that each holds.",
                    Scalar(null),
                    null
                )
            ),
            ("connect-seconds", Scalar("Time limit of connecting.")),
            ("statement-seconds", Scalar("Time limit of one statement.")),
            ("sessions", Scalar("Connections at once."))
        );
        return File("A source: sources/NAME.yaml", schema);
    }

    private static JsonObject Service()
    {
        var schema = Object(
            ["source"],
            ("title", Text("What people call it.")),
            ("about", About()),
            (
                "version-of",
                Object(
                    ["service", "segment"],
                    ("service", Text("The service that is current.")),
                    ("segment", Text("What stands behind its name in addresses, such as v1."))
                )
            ),
            ("deprecated", Deprecated()),
            ("source", Text("The source that its sets are read from.")),
            ("namespace", Text("Namespace of the types; the service's name when left out.")),
            ("names", Words("How public names are made.", "as-is", "pascal-case", "camel-case")),
            ("faces", NamedFaces()),
            ("rest", Rest()),
            (
                "sql",
                Object(
                    ["who"],
                    ("who", OneOrMany("Who may send SELECTs over the sets: anyone, signed-in, nobody, or roles.")),
                    ("rows", Number("Rows that one statement gives at most.", 1, 1_000_000))
                )
            ),
            ("handover", Object(["who"], ("who", OneOrMany("Who may open the page for consumers: anyone, signed-in, nobody, or roles.")))),
            ("audit", Words("Changes are refused while the audit log cannot be written.", "required")),
            ("page", Number("Rows in a page when a set says nothing.", 1, 1_000_000)),
            ("largest-page", Number("The largest page that a caller may ask for.", 1, 1_000_000)),
            ("caller-keys", Flag("Callers choose keys that the database would number, in all sets that say nothing.")),
            ("rules", Rules()),
            (
                "types",
                Map(
                    "Enumerations, complex types and names for primitive types, by name.",
                    OneOf(Text("The primitive type that it is a name for, such as string(12)."), Type()),
                    Identifier
                )
            ),
            (
                "sets",
                new JsonObject
                {
                    ["description"] = "What is published.",
                    ["type"] = "array",
                    ["minItems"] = 1,
                    ["items"] = OneOf(Text("A table or view: its name alone publishes it."), Set()),
                }
            ),
            ("queries", List("Queries with names and parameters.", Query())),
            ("query-groups", List("Queries that belong together.", QueryGroup()))
        );
        // It publishes something.
        schema["anyOf"] = new JsonArray(
            new JsonObject { ["required"] = new JsonArray("sets") },
            new JsonObject { ["required"] = new JsonArray("query-groups") },
            new JsonObject
            {
                ["required"] = new JsonArray("queries"),
                ["properties"] = new JsonObject { ["queries"] = new JsonObject { ["minItems"] = 1 } },
            }
        );
        return File("A service: services/NAME.yaml", schema);
    }

    private static JsonObject Check() =>
        File(
            "Saved checks: checks/NAME.yaml",
            Object(
                [],
                (
                    "access",
                    List(
                        "What callers can and cannot do.",
                        Object(
                            ["service", "set", "as"],
                            ("title", Text("What it says, for people.")),
                            ("service", Text("The service.")),
                            ("set", Text("The set.")),
                            ("as", OneOrMany("Who: anyone, signed-in, or roles.")),
                            ("attributes", Map("Attributes of the caller.", Scalar(null), Identifier)),
                            ("can", Words("What they can do.", [.. Grant.OperationWords])),
                            ("cannot", Words("What they cannot do.", [.. Grant.OperationWords])),
                            ("rows", Text("The rows that it is about, as a filter expression over all that there is.")),
                            ("property", Text("The property whose values it is about."))
                        )
                    )
                )
            )
        );

    private static JsonObject Rules()
    {
        const string Whom = "anyone, signed-in, nobody, or roles.";
        var short_ = Object(
            [],
            ("read", OneOrMany("Who may read: " + Whom)),
            ("create", OneOrMany("Who may create: " + Whom)),
            ("update", OneOrMany("Who may change: " + Whom)),
            ("delete", OneOrMany("Who may delete: " + Whom)),
            ("call", OneOrMany("Who may call actions: " + Whom))
        );
        var rule = Object(
            ["who"],
            ("who", OneOrMany("Whom the rule is about: " + Whom)),
            ("may", OneOrMany("What it lets them do: read, create, update, delete.")),
            ("deny", OneOrMany("What it takes away, whatever other rules say.")),
            ("rows", Text("The rows that it is about, as a filter expression; @name is an attribute of the caller.")),
            ("hide", OneOrMany("Columns whose properties are not there for them.")),
            ("mask", OneOrMany("Columns whose properties are null for them.")),
            ("with-check", Text("What a row must fulfil once it is written, as a filter expression.")),
            ("largest-page", Number("Rows in the largest page.", 1, 1_000_000)),
            ("largest-cost", Number("Rows that one answer may hold at most, expanded ones among them.", 1, int.MaxValue))
        );
        return OneOf(short_, new JsonObject { ["type"] = "array", ["items"] = rule });
    }

    private static JsonObject Type() =>
        Object(
            [],
            ("description", Text("For people.")),
            ("type", Text("The primitive type that it is a name for, such as string(12) or decimal(9,2).")),
            (
                "members",
                OneOf(
                    Texts("Members that are stored as they are called."),
                    Map("Members with what is stored for each.", Scalar(null), Identifier)
                )
            ),
            (
                "properties",
                Map(
                    "Properties of a complex type.",
                    OneOf(
                        Text("The type."),
                        Object(
                            ["type"],
                            ("type", Text("The type.")),
                            ("from", Scalar("Its name in the JSON text.")),
                            ("required", Flag("Never null."))
                        )
                    ),
                    Identifier
                )
            ),
            ("open", Flag("Values may hold members that are not declared."))
        );

    private static JsonObject Set() =>
        Object(
            [],
            ("from", Text("The table or view.")),
            ("select", Text("A SELECT instead of a table or view.")),
            ("source", Text("Its source, when it is another than the service's.")),
            ("name", Name("Public name of the set.")),
            ("type", Name("Name of the entity type.")),
            ("description", Text("For people; the table's comment when left out.")),
            ("deprecated", Deprecated()),
            ("faces", NamedFaces()),
            ("rest", RestSet()),
            ("key", OneOrMany("Columns that identify a row.")),
            ("keyless", Flag("Published without a key, for reading only.")),
            ("hide", OneOrMany("Columns that callers never see.")),
            ("show", OneOrMany("The only columns that callers see, in this order.")),
            ("rename", Map("Column: public name.", Name(null), null)),
            ("columns", Map("Column: its type, or what is said of it.", OneOf(Text("The type."), Column()), null)),
            ("group", Group()),
            ("relations", Map("Navigation property: the set that it leads to, and how.", OneOf(Text("The set."), Relation()), Identifier)),
            ("order", OneOrMany("Columns of the default order, each with 'desc' behind it or not.")),
            ("search", Search()),
            (
                "version",
                Text("The column that changes with every change of a row: it makes the entity tags; row makes them of all values.")
            ),
            ("require-version", Flag("Changes must say with If-Match which state they are about.")),
            ("valid", Valid()),
            ("log", ChangeLog()),
            ("writes", Writes()),
            ("compute", Map("Read-only property: an expression in the filter language.", Text(null), Identifier)),
            ("discriminator", Text("The column that tells an entity's type.")),
            ("derived", Derived()),
            ("changes", Changes()),
            ("caller-keys", Flag("Callers choose keys that the database would number; else it makes them, whatever is sent.")),
            ("require-filter", Flag("Read with a filter only, never as a whole.")),
            ("page", Number("Rows in a page.", 1, 1_000_000)),
            ("largest-page", Number("The largest page that a caller may ask for.", 1, 1_000_000)),
            ("allow", Operations()),
            ("rules", Rules())
        );

    private static JsonObject Group() =>
        Map(
            "Complex property: its columns.",
            OneOf(
                OneOrMany("The columns."),
                Object(["columns"], ("type", Name("Name of the complex type.")), ("columns", OneOrMany("The columns.")))
            ),
            Identifier
        );

    private static JsonObject Search() =>
        OneOf(
            OneOrMany("Columns that $search looks at, or no; all text columns when left out."),
            Object(["index"], ("index", Text("The full-text index of the table that $search asks.")))
        );

    private static JsonObject Valid() =>
        List(
            "What written rows must be.",
            Object(
                [],
                ("where", Text("What a row fulfils, as a filter expression.")),
                ("unique", OneOrMany("Columns whose values together no other row has.")),
                ("on", OneOf(Words("The operation.", "create", "update"), List("The operations.", Words(null, "create", "update")))),
                ("who", OneOrMany("Whom it is about: anyone, signed-in, or roles; everybody when left out.")),
                ("column", Text("The column that the fault is told of.")),
                ("message", Text("What people are told."))
            )
        );

    private static JsonObject ChangeLog() =>
        Object(
            ["to", "columns"],
            ("to", Text("The table that takes a row for each change.")),
            ("columns", Map("What is noted (set, key, operation, who, when, before, after): the column that takes it.", Scalar(null), null))
        );

    private static JsonObject Writes()
    {
        JsonObject Call(string what) =>
            Object(
                [],
                ("statement", Text($"The statements that {what}; columns stand in them as :name.")),
                ("file", Text("A file beside the service's that holds them.")),
                ("routine", Text("A function or procedure of the database.")),
                ("parameters", Map("Parameter of the routine: the column whose value it takes.", Scalar(null), null))
            );
        return Object(
            [],
            ("create", Call("create an entity, and give its key")),
            ("update", Call("change an entity")),
            ("delete", Call("delete an entity"))
        );
    }

    private static JsonObject Derived() =>
        Map(
            "Derived type: how its entities are known and what they have more.",
            Object(
                [],
                ("when", OneOrMany("Values of the discriminator.")),
                ("columns", OneOrMany("Columns that only this type has.")),
                ("from", Text("A table with rows for this type only.")),
                ("hide", OneOrMany("Columns of that table that callers never see."))
            ),
            Identifier
        );

    private static JsonObject Changes() =>
        OneOf(
            Text("The column that grows with every change of a row."),
            Object(
                ["stamp"],
                ("stamp", Text("The column that grows with every change of a row.")),
                (
                    "deleted",
                    Object(
                        ["from", "stamp"],
                        ("from", Text("The table that keeps the keys of deleted rows.")),
                        ("stamp", Text("Its column that grows with every deletion."))
                    )
                )
            )
        );

    private static JsonObject Operations() =>
        OneOf(
            Words("The operation.", "read", "create", "update", "delete"),
            List("The operations.", Words(null, "read", "create", "update", "delete"))
        );

    private static JsonObject Column() =>
        Object(
            [],
            ("name", Name("Public name.")),
            ("type", Text("A type of the standard, with facets as in string(40), or one of the service; collection(…) of them for JSON.")),
            ("format", Scalar("How a date or time is written, such as dd.MM.yyyy.")),
            ("unit", Words("What a number counts.", "microseconds", "milliseconds", "seconds", "minutes", "hours", "days")),
            (UnrepresentableWords.Name, Words(Unrepresentable, UnrepresentableWords.All)),
            ("measured-in", Scalar("What a number is measured in, such as m³/s; or = and the path to the text that says so.")),
            ("currency", Text("The currency of an amount, as its ISO 4217 code; or = and the path to the text that says so.")),
            ("true", Scalar("What is stored for true.")),
            ("false", Scalar("What is stored for false.")),
            ("stream", Flag("The content is fetched by itself.")),
            ("media-type", Text("Media type of the content.")),
            ("media-type-column", Text("The column that holds the media type of each stream.")),
            ("description", Text("For people; the column's comment when left out.")),
            ("deprecated", Deprecated()),
            ("required", Flag("Never null, whatever the catalog says.")),
            ("filter", Flag("Whether it may be filtered by.")),
            ("sort", Flag("Whether it may be sorted by.")),
            ("write", Words("When it may be written.", "always", "create", "never")),
            (
                "generate",
                Scalar(
                    "How a new entity gets its value: uuid, now, user, @attribute, a prefix with {00000} for the next number, "
                        + "or = and an expression."
                )
            ),
            ("regenerate", Scalar("The same, also when an entity changes.")),
            ("default", Scalar("The same, when nothing is sent; or a plain value.")),
            ("minimum", Scalar("The smallest value.")),
            ("maximum", Scalar("The largest value.")),
            ("min-length", Number("Characters at least.", 0, int.MaxValue)),
            ("max-length", Number("Characters at most.", 1, int.MaxValue)),
            ("pattern", Text("A regular expression that the whole text matches.")),
            ("values", OneOrMany("The only values.")),
            ("exists", Text("Set/property: some entity has the value.")),
            ("references", Words("What its values may refer to: entities that the caller may read, or all.", "visible", "all")),
            ("unique", Flag("No other row has the value.")),
            ("message", Text("What people are told when a rule of the column is broken."))
        );

    private static JsonObject Relation() =>
        Object(
            ["to"],
            ("to", Text("The set that it leads to.")),
            ("on", OneOf(Map("Own column: column of the other.", Scalar(null), null), OneOrMany("Own columns, for the key of the other."))),
            ("back", OneOf(Name("Name of the way back, or no."), Flag("No way back."))),
            ("through", Text("The table between the two.")),
            ("contained", Flag("The others are part of these and have no set of their own."))
        );
}
