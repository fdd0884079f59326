using RapidGable.Model;

namespace RapidGable.Metadata;

public sealed partial class CsdlXmlWriter
{
    /// <summary>What cannot be done with a set; all else can (Capabilities vocabulary).</summary>
    private void WriteRestrictions(EntitySet set)
    {
        WriteChanges(set);
        Restricted(
            "Filter",
            "NonFilterableProperties",
            NotUsable(set.Type.Properties, p => p.IsFilterable, ConvertedUse.Equality),
            set.RequiresFilter ? [("RequiresFilter", "true")] : []
        );
        Restricted(
            "Sort",
            "NonSortableProperties",
            NotUsable(set.Type.Properties, p => p.IsSortable && p.Type.Kind != EdmKind.Binary, ConvertedUse.Sorting),
            []
        );
        if (!set.IsSearchable)
            Restriction("Search", ("Searchable", "false"));
        Annotated("Capabilities.ExpandRestrictions", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            Element("PropertyValue", Edm, ("Property", "MaxLevels"), ("Int", Text(_model.Limits.ExpandDepth)));
            _xml.WriteEndElement();
        });
        Annotated("Capabilities.SelectSupport", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            foreach (
                var (name, value) in new[]
                {
                    ("Supported", "true"),
                    ("Expandable", "false"),
                    ("Filterable", "false"),
                    ("Searchable", "false"),
                    ("TopSupported", "false"),
                    ("SkipSupported", "false"),
                    ("ComputeSupported", "false"),
                    ("Countable", "false"),
                    ("Sortable", "false"),
                }
            )
                Element("PropertyValue", Edm, ("Property", name), ("Bool", value));
            _xml.WriteEndElement();
        });
        Annotation("Capabilities.ComputeSupported", "Bool", "true");
        if (set.Changes is not null)
            Restricted("ChangeTracking", [("Supported", "true")]);
        if (set.HasVersion)
        {
            // What makes the tag may be hidden, so it is not named.
            Annotated("Core.OptimisticConcurrency", () => Element("Collection", Edm));
        }
        WriteAggregation(set);
    }

    /// <summary>What may be changed, and how.</summary>
    private void WriteChanges(EntitySet set)
    {
        bool May(SetOperations operation) => set.Operations.HasFlag(operation);
        static string Word(bool value) => value ? "true" : "false";
        Restricted("InsertRestrictions", May(SetOperations.Create) ? [("Insertable", "true")] : [("Insertable", "false")]);
        Restricted(
            "UpdateRestrictions",
            May(SetOperations.Update)
                ?
                [
                    ("Updatable", "true"),
                    (
                        "Upsertable",
                        Word(
                            May(SetOperations.Create)
                                && set.Type.Key.All(k => k is { HasComputedDefault: false, IsComputed: false, Maker: null })
                        )
                    ),
                    ("FilterSegmentSupported", "true"),
                    ("DeltaUpdateSupported", Word(set.ContainedIn is null)),
                ]
                : [("Updatable", "false")]
        );
        if (May(SetOperations.Create))
            Restricted("DeepInsertSupport", [("Supported", "true")]);
        if (May(SetOperations.Update))
            Restricted("DeepUpdateSupport", [("Supported", "true")]);
        Restricted(
            "DeleteRestrictions",
            May(SetOperations.Delete) ? [("Deletable", "true"), ("FilterSegmentSupported", "true")] : [("Deletable", "false")]
        );
    }

    private void WriteAggregation(EntitySet set) => Annotated("Aggregation.ApplySupported", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            _xml.WriteStartElement("PropertyValue", Edm);
            _xml.WriteAttributeString("Property", "Transformations");
            Strings(Transformations.Known);
            _xml.WriteEndElement();
            Element("PropertyValue", Edm, ("Property", "Rollup"), ("EnumMember", "Aggregation.RollupType/MultipleHierarchies"));
            _xml.WriteEndElement();
        });

    private static List<string> NotUsable(IEnumerable<Property> properties, Func<Property, bool> may, ConvertedUse least) =>
        [
            .. properties
                .SelectMany(p =>
                    p.IsGroup ? p.Members.Select(m => (Path: $"{p.Name}/{m.Name}", Property: m)) : [(Path: p.Name, Property: p)]
                )
                .Where(p => !may(p.Property) || p.Property.Type.Kind == EdmKind.Stream || p.Property.Conversion?.Use < least)
                .Select(p => p.Path),
        ];

    private void Restriction(string kind, (string Member, string Value) value) => Annotated($"Capabilities.{kind}Restrictions", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            Element("PropertyValue", Edm, ("Property", value.Member), ("Bool", value.Value));
            _xml.WriteEndElement();
        });

    private void Restricted(string kind, string member, List<string> paths, (string Name, string Value)[] flags)
    {
        if (paths.Count == 0 && flags.Length == 0)
            return;
        Annotated($"Capabilities.{kind}Restrictions", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            foreach (var (name, value) in flags)
                Element("PropertyValue", Edm, ("Property", name), ("Bool", value));
            if (paths.Count > 0)
            {
                _xml.WriteStartElement("PropertyValue", Edm);
                _xml.WriteAttributeString("Property", member);
                _xml.WriteStartElement("Collection", Edm);
                foreach (var path in paths)
                    _xml.WriteElementString("PropertyPath", Edm, path);
                _xml.WriteEndElement();
                _xml.WriteEndElement();
            }
            _xml.WriteEndElement();
        });
    }

    private void Restricted(string term, (string Name, string Value)[] flags) => Annotated($"Capabilities.{term}", () =>
        {
            _xml.WriteStartElement("Record", Edm);
            foreach (var (name, value) in flags)
                Element("PropertyValue", Edm, ("Property", name), ("Bool", value));
            _xml.WriteEndElement();
        });
}
