using System.Collections.Immutable;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Text;
using System.Threading.Channels;
using MiniExcelLibs;
using MiniExcelLibs.Attributes;
using MiniExcelLibs.OpenXml;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;
using Property = RapidGable.Model.Property;

namespace RapidGable.Payloads.Flat;

/// <summary>
/// Writes rows as a workbook of one sheet, with the columns of CSV. Numbers of up to 15 digits and dates are cells of these kinds; what a
/// spreadsheet program would round is a text with all of its digits.
/// </summary>
public sealed class XlsxWriter : IListWriter
{
    /// <summary>The media type.</summary>
    public const string MediaType = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet";

    /// <summary>Characters of one cell; a longer text is refused by spreadsheet programs.</summary>
    public const int MostCharacters = 32_767;

    // Rows that wait for the library at most.
    private const int WaitingRows = 64;

    private readonly PreparedRequest _prepared;
    private readonly ImmutableArray<EntityNode> _tree;
    private readonly FlatColumns _columns;

    private XlsxWriter(PreparedRequest prepared)
    {
        _prepared = prepared;
        _tree = EntityNode.TreeOf(prepared.Query!.Shape.Entity);
        _columns = new FlatColumns(_tree);
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    public static XlsxWriter For(PreparedRequest prepared) => (XlsxWriter)prepared.Derived.GetOrAdd("xlsx", _ => new XlsxWriter(prepared));

    /// <inheritdoc/>
    public async Task<Continuation?> WriteAsync(QueryRun run, ILinks links, PayloadOutput output, CancellationToken cancellation)
    {
        using var either = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var channel = Channel.CreateBounded<object?[]>(WaitingRows);
        var reading = ReadAsync(run, links, output, channel.Writer, either.Token);
        await using (var stream = new OutputStream(output))
        {
            try
            {
                await stream.SaveAsAsync(
                    Named(channel.Reader, either.Token),
                    sheetName: SheetName(_prepared.Request.Path.Target.Name),
                    configuration: Layout(),
                    cancellationToken: either.Token
                );
            }
            catch
            {
                await either.CancelAsync();
                // What went wrong while rows were read is the reason; the library only met its end.
                await ((Task)reading).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
                if (reading.Exception?.InnerException is { } cause and not OperationCanceledException)
                    System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(cause);
                throw;
            }
        }
        var next = await reading;
        await output.SendAsync(cancellation);
        return next;
    }

    private async Task<Continuation?> ReadAsync(
        QueryRun run,
        ILinks links,
        PayloadOutput output,
        ChannelWriter<object?[]> rows,
        CancellationToken cancellation
    )
    {
        // A session is read by one thread at a time, and the writing below goes on elsewhere.
        await Task.Yield();
        try
        {
            var visitor = new Rows(this, links, run, output, rows);
            var walk = new RowWalk(_tree[0], _prepared.Request, run, visitor, cancellation);
            await walk.FetchRemotesAsync();
            Continuation? next = null;
            if (_prepared.Request.Path.Kind == ResourceKind.Entity)
            {
                await walk.EntityAsync();
                visitor.End();
            }
            else
                next = await walk.CollectionAsync();
            await visitor.SendIfFullAsync(cancellation);
            rows.Complete();
            return next;
        }
        catch (Exception exception)
        {
            rows.Complete(exception);
            throw;
        }
    }

    private async IAsyncEnumerable<IDictionary<string, object?>> Named(
        ChannelReader<object?[]> rows,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var named = new Dictionary<string, object?>();
        var isEmpty = true;
        await foreach (var row in rows.ReadAllAsync(cancellation))
        {
            isEmpty = false;
            for (var i = 0; i < row.Length; i++)
                named[_columns.All[i].Name] = row[i];
            yield return named;
        }
        if (!isEmpty)
            yield break;
        // The library takes the names of the columns from the first row, so that of no rows there would be none.
        foreach (var column in _columns.All)
            named[column.Name] = null;
        yield return named;
    }

    private OpenXmlConfiguration Layout() =>
        new()
        {
            FastMode = false,
            TableStyles = TableStyles.None,
            AutoFilter = false,
            EnableWriteNullValueCell = false,
            DynamicColumns =
            [
                .. _columns
                    .All.Where(c => c.Property is { } p && (IsDay(p) || IsInstant(p)))
                    .Select(c => new DynamicExcelColumn(c.Name)
                    {
                        Format = IsDay(c.Property!) ? "yyyy-mm-dd" : "yyyy-mm-dd hh:mm:ss.000",
                        Width = IsDay(c.Property!) ? 11 : 22,
                    }),
            ],
        };

    private static bool IsDay(Property property) => property.Type.Kind == EdmKind.Date;

    /// <summary>Points in time to the millisecond are cells of that kind, in UTC; finer ones are texts.</summary>
    private static bool IsInstant(Property property) => property.Type is { Kind: EdmKind.DateTimeOffset, Precision: null or <= 3 };

    private static string SheetName(string name) => name.Length > 31 ? name[..31] : name;

    private sealed class Rows(XlsxWriter writer, ILinks links, QueryRun run, PayloadOutput output, ChannelWriter<object?[]> rows)
        : FlatRows(writer._tree, writer._columns, links, run, output)
    {
        // Spreadsheet programs count days from 1900 on, and have that year wrong up to March.
        private static readonly DateTime First = new(1900, 3, 1, 0, 0, 0, DateTimeKind.Utc);

        private readonly Queue<object?[]> _finished = new();
        private object?[] _row = new object?[writer._columns.All.Length];

        public override async ValueTask SendIfFullAsync(CancellationToken cancellation)
        {
            while (_finished.TryDequeue(out var row))
                await rows.WriteAsync(row, cancellation);
        }

        protected override void Value(int column, ShapeCell cell, IRowCursor row) =>
            _row[column] =
                FlatValue.IsJson(cell.Property) ? Text(column, Encoding.UTF8.GetString(FlatValue.Json(cell, row)))
                : FlatValue.IsOdd(cell, row) ? null
                : Typed(column, cell, row);

        private object Typed(int column, ShapeCell cell, IRowCursor row)
        {
            var value = RowValue.Published(row, cell.Property, cell.Column);
            return value switch
            {
                bool => value,
                long and > -FlatValue.BeyondDigits and < FlatValue.BeyondDigits => value,
                decimal number when Digits(number) <= FlatValue.KeptDigits => number,
                double number when double.IsFinite(number) => number,
                DateOnly day when day >= DateOnly.FromDateTime(First) => day.ToDateTime(TimeOnly.MinValue),
                DateTime instant when IsInstant(cell.Property) && instant >= First => instant,
                _ => Text(column, FlatValue.Text(cell, row)),
            };
        }

        protected override void Json(int column, ReadOnlySpan<byte> json) => _row[column] = Text(column, Encoding.UTF8.GetString(json));

        protected override void Nothing(int column) => _row[column] = null;

        protected override void EndRow()
        {
            _finished.Enqueue(_row);
            _row = new object?[_row.Length];
        }

        private string Text(int column, string text)
        {
            if (text.Length > MostCharacters)
                throw new SourceException(
                    SourceFaultKind.BadData,
                    $"A text of '{writer._columns.All[column].Name}' has {text.Length} characters, and a cell takes {MostCharacters}."
                );
            return text;
        }

        private static int Digits(decimal number) => Math.Abs(number).ToString(CultureInfo.InvariantCulture).Count(char.IsAsciiDigit);
    }
}
