using System.Buffers;
using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Payloads.Flat;

/// <summary>How CSV is written.</summary>
/// <param name="HasHeader">The first line holds the names of the columns.</param>
/// <param name="EscapesFormulas">
/// What a spreadsheet program would change gets an apostrophe in front: texts that it could take for formulas, and numbers with more digits
/// than it keeps.
/// </param>
public sealed record CsvForm(bool HasHeader, bool EscapesFormulas)
{
    public static CsvForm Usual { get; } = new(true, false);
}

/// <summary>
/// Writes rows as CSV (RFC 4180). Null is an empty field and the empty text is a field of two double quotes; complex values and single
/// related entities are columns of their own, lists are JSON texts.
/// </summary>
public sealed class CsvWriter : IListWriter
{
    /// <summary>The media type.</summary>
    public const string MediaType = "text/csv";

    private readonly PreparedRequest _prepared;
    private readonly CsvForm _form;
    private readonly ImmutableArray<EntityNode> _tree;
    private readonly FlatColumns _columns;

    private CsvWriter(PreparedRequest prepared, CsvForm form)
    {
        _prepared = prepared;
        _form = form;
        _tree = EntityNode.TreeOf(prepared.Query!.Shape.Entity);
        _columns = new FlatColumns(_tree);
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    public static CsvWriter For(PreparedRequest prepared, CsvForm form) =>
        (CsvWriter)prepared.Derived.GetOrAdd($"csv {form}", _ => new CsvWriter(prepared, form));

    /// <inheritdoc/>
    public async Task<Continuation?> WriteAsync(QueryRun run, ILinks links, PayloadOutput output, CancellationToken cancellation)
    {
        var rows = new Rows(this, links, run, output);
        var walk = new RowWalk(_tree[0], _prepared.Request, run, rows, cancellation);
        await walk.FetchRemotesAsync();
        if (_form.HasHeader)
            rows.Header();
        Continuation? next = null;
        if (_prepared.Request.Path.Kind == ResourceKind.Entity)
        {
            await walk.EntityAsync();
            rows.End();
        }
        else
            next = await walk.CollectionAsync();
        await output.SendAsync(cancellation);
        return next;
    }

    private sealed class Rows(CsvWriter writer, ILinks links, QueryRun run, PayloadOutput output)
        : FlatRows(writer._tree, writer._columns, links, run, output)
    {
        private static readonly SearchValues<byte> Quoted = SearchValues.Create(",\"\r\n"u8);
        private static readonly SearchValues<byte> Formulas = SearchValues.Create("=+-@\t\r"u8);

        public void Header()
        {
            for (var i = 0; i < writer._columns.All.Length; i++)
                Field(i, FlatValue.Bytes(writer._columns.All[i].Name));
            EndRow();
        }

        public override ValueTask SendIfFullAsync(CancellationToken cancellation) => Output.SendIfFullAsync(cancellation);

        protected override void Value(int column, ShapeCell cell, IRowCursor row)
        {
            var property = cell.Property;
            if (FlatValue.IsPlainText(property))
                Text(column, FlatValue.PlainText(cell, row));
            else if (FlatValue.IsJson(property))
                Text(column, FlatValue.Json(cell, row));
            else if (property is { Type.IsIntegral: true, Conversion: null })
                Number(column, row.GetInt64(cell.Column));
            else if (FlatValue.IsOdd(cell, row))
                Nothing(column);
            else if (property.Type.Kind == EdmKind.String)
                Text(column, FlatValue.Bytes(FlatValue.Text(cell, row)));
            else if (property.Type is { IsNumeric: true, Kind: EdmKind.Decimal })
                Number(column, FlatValue.Bytes(FlatValue.Text(cell, row)));
            else
                Field(column, FlatValue.Bytes(FlatValue.Text(cell, row)));
        }

        protected override void Json(int column, ReadOnlySpan<byte> json) => Field(column, json);

        protected override void Nothing(int column) => Separate(column);

        protected override void EndRow() => Write("\r\n"u8);

        private void Number(int column, long number)
        {
            Separate(column);
            if (writer._form.EscapesFormulas && number is >= FlatValue.BeyondDigits or <= -FlatValue.BeyondDigits)
                Write("'"u8);
            number.TryFormat(Output.GetSpan(20), out var length, provider: System.Globalization.CultureInfo.InvariantCulture);
            Output.Advance(length);
        }

        private void Number(int column, ReadOnlySpan<byte> number)
        {
            Separate(column);
            if (writer._form.EscapesFormulas && FlatValue.Digits(number) > FlatValue.KeptDigits)
                Write("'"u8);
            Write(number);
        }

        private void Text(int column, ReadOnlySpan<byte> text)
        {
            if (!writer._form.EscapesFormulas || text.IsEmpty || !Formulas.Contains(text[0]))
            {
                Field(column, text);
                return;
            }
            Field(column, [(byte)'\'', .. text]);
        }

        private void Field(int column, ReadOnlySpan<byte> text)
        {
            Separate(column);
            if (!text.IsEmpty && text.IndexOfAny(Quoted) < 0)
            {
                Write(text);
                return;
            }
            Write("\""u8);
            while (text.IndexOf((byte)'"') is >= 0 and var quote)
            {
                Write(text[..(quote + 1)]);
                Write("\""u8);
                text = text[(quote + 1)..];
            }
            Write(text);
            Write("\""u8);
        }

        private void Separate(int column)
        {
            if (column > 0)
                Write(","u8);
        }

        private void Write(ReadOnlySpan<byte> bytes)
        {
            bytes.CopyTo(Output.GetSpan(bytes.Length));
            Output.Advance(bytes.Length);
        }
    }
}
