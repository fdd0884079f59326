using CsCheck;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>Which colons of a statement are parameters.</summary>
public sealed class SqlMarksTests
{
    private static readonly Dictionary<string, SqlLexis> Engines = new()
    {
        ["sqlite"] = new RapidGable.Sources.Sqlite.SqliteDialect().Lexis,
        ["postgresql"] = new RapidGable.Sources.PostgreSql.PostgresDialect().Lexis,
        ["mariadb"] = new RapidGable.Sources.MariaDb.MariaDbDialect().Lexis,
    };

    [Theory]
    [InlineData("*", "SELECT :a, :b_1 FROM t WHERE x = :a", "a b_1 a")]
    [InlineData("*", "SELECT ':a', ':it''s', \":b\" FROM t WHERE x=:c", "c")]
    [InlineData("*", "SELECT 1 -- :a it's\n, :b", "b")]
    [InlineData("*", "SELECT 1 /* :a ' */ , :b", "b")]
    [InlineData("*", "SELECT : a, 1:2, x[1 : 2]", "")]
    [InlineData("*", "SELECT x FROM t LIMIT :größe", "größe")]
    [InlineData("*", ":a", "a")]
    [InlineData("*", "SELECT t.into, 'for update', \"into\", substring(a FROM 2 FOR 3) -- into\n, :b", "b")]
    [InlineData("postgresql", "SELECT x::text, :a::date, f(b := :c)", "a c")]
    [InlineData("postgresql", "SELECT $$ :a $$, $q$ ' :b $$ $q$, :c", "c")]
    [InlineData("postgresql", "SELECT E'\\' :a', 'x\\', :b", "b")]
    [InlineData("postgresql", "SELECT /* /* :a */ :b */ :c", "c")]
    [InlineData("postgresql", "SELECT a$1$ , :b", "b")]
    [InlineData("postgresql", "SELECT j ? 'k', j ->> :k", "k")]
    [InlineData("mariadb", "SELECT '\\' :a', `:b`, :c # :d\n, :e", "c e")]
    [InlineData("mariadb", "SELECT 5--:n, 6 -- :m", "n")]
    [InlineData("mariadb", "SELECT @@session.time_zone, :a", "a")]
    [InlineData("mariadb", "SELECT /* /* :a */ :b", "b")]
    [InlineData("sqlite", "SELECT [:a]]b], :c", "c")]
    [InlineData("sqlite", "SELECT 'x\\', :b", "b")]
    public void Parameters_are_found(string engine, string sql, string names)
    {
        foreach (var lexis in engine == "*" ? Engines.Values : (IEnumerable<SqlLexis>)[Engines[engine]])
        {
            var read = SqlMarks.Read(sql, lexis);
            Assert.Null(read.Fault);
            Assert.Equal(names, string.Join(' ', read.Marks.Select(m => m.Name)));
            Assert.Equal(read.Marks.Length + 1, read.Pieces.Length);
        }
    }

    [Theory]
    [InlineData("*", "SELECT 1; DELETE FROM t", "more than one statement", 8)]
    [InlineData("*", "SELECT 'a", "not closed", 7)]
    [InlineData("*", "SELECT /* a", "not closed", 7)]
    [InlineData("*", "SELECT \"a", "not closed", 7)]
    [InlineData("*", "SELECT a INTO b FROM t", "INTO", 9)]
    [InlineData("*", "SELECT a FROM t WHERE b = :b for  update", "locks", 29)]
    [InlineData("*", "SELECT a FROM t FOR NO KEY UPDATE", "locks", 16)]
    [InlineData("*", "SELECT a FROM t LOCK IN SHARE MODE", "locks", 16)]
    [InlineData("mariadb", "SELECT a FROM t INTO OUTFILE '/tmp/x'", "INTO", 16)]
    [InlineData("postgresql", "SELECT $q$ a", "not closed", 7)]
    [InlineData("postgresql", "SELECT $1", "'$' stands for a value", 7)]
    [InlineData("mariadb", "SELECT ?", "'?' stands for a value", 7)]
    [InlineData("mariadb", "SELECT @p1", "'@' stands for a value", 7)]
    [InlineData("mariadb", "SELECT /*!50000 :a */ 1", "carried out", 7)]
    [InlineData("mariadb", "SELECT /*M! 1 */", "carried out", 7)]
    [InlineData("sqlite", "SELECT ?1", "'?' stands for a value", 7)]
    [InlineData("sqlite", "SELECT @a", "'@' stands for a value", 7)]
    [InlineData("sqlite", "SELECT $a", "'$' stands for a value", 7)]
    [InlineData("sqlite", "SELECT [a", "not closed", 7)]
    public void What_is_no_single_statement_is_told(string engine, string sql, string fault, int position)
    {
        foreach (var lexis in engine == "*" ? Engines.Values : (IEnumerable<SqlLexis>)[Engines[engine]])
        {
            var read = SqlMarks.Read(sql, lexis);
            Assert.Contains(fault, read.Fault);
            Assert.Equal(position, read.FaultPosition);
        }
    }

    [Theory] // texts, names and comments hold no ends of statements
    [InlineData("*", "DELETE FROM t WHERE a = :a; SELECT ';' AS b, \";\" /* ; */ FROM t -- ;\n", "a|")]
    [InlineData("*", " ; -- nothing\n ; UPDATE t SET a = :b, c = :a ;;", "b a")]
    [InlineData("*", "-- first\nINSERT INTO t VALUES (:a)", "a")]
    [InlineData("*", "WITH x AS (SELECT :a AS n) INSERT INTO t SELECT n FROM x; VALUES (:b)", "a|b")]
    [InlineData("*", "SELECT a FROM t WHERE b = :b FOR UPDATE", "b")]
    [InlineData("sqlite", "INSERT OR IGNORE INTO t VALUES (:a); INSERT OR REPLACE INTO t VALUES (:b)", "a|b")]
    [InlineData("postgresql", "SELECT $q$;$q$, :a; CALL p(:b, x => :c)", "a|b c")]
    [InlineData("mariadb", "INSERT IGNORE INTO t VALUES ('\\';', :a); REPLACE INTO t VALUES (:b) # ;", "a|b")]
    public void Scripts_are_cut_at_their_semicolons(string engine, string sql, string names)
    {
        foreach (var lexis in engine == "*" ? Engines.Values : (IEnumerable<SqlLexis>)[Engines[engine]])
        {
            var read = SqlScript.Read(sql, lexis);
            Assert.Null(read.Fault);
            Assert.Equal(names, string.Join('|', read.Statements.Select(s => string.Join(' ', s.Marks.Select(m => m.Name)))));
            // Nothing stands before the first word of a statement, so that it can be told what it is.
            Assert.All(read.Statements, s => Assert.Matches("^[A-Z]", s.Pieces[0]));
        }
    }

    [Theory]
    [InlineData("*", "", "holds no statement", 0)]
    [InlineData("*", " ; -- nothing", "holds no statement", 0)]
    [InlineData("*", "SELECT 1; COMMIT", "starts with COMMIT", 10)]
    [InlineData("*", "BEGIN", "starts with BEGIN", 0)]
    [InlineData("*", "SET x = 1", "starts with SET", 0)]
    [InlineData("*", "COPY t FROM '/etc/passwd'", "starts with COPY", 0)]
    [InlineData("*", "LOAD DATA INFILE 'x'", "starts with LOAD", 0)]
    [InlineData("*", "DROP TABLE t", "starts with DROP", 0)]
    [InlineData("*", "SELECT a INTO b FROM t", "INTO", 9)]
    [InlineData("*", "DELETE FROM t; SELECT a FROM t INTO OUTFILE 'x'", "INTO", 31)]
    [InlineData("*", "DELETE FROM t WHERE a = 'x", "not closed", 24)]
    [InlineData("mariadb", "DELETE FROM t /*! WHERE 1 */", "carried out", 14)]
    [InlineData("mariadb", "UPDATE t SET a = @x", "'@' stands for a value", 17)]
    public void What_is_no_script_is_told(string engine, string sql, string fault, int position)
    {
        foreach (var lexis in engine == "*" ? Engines.Values : (IEnumerable<SqlLexis>)[Engines[engine]])
        {
            var read = SqlScript.Read(sql, lexis);
            Assert.Contains(fault, read.Fault);
            Assert.Equal(position, read.FaultPosition);
        }
    }

    [Fact] // nothing of a statement is lost, whatever it holds
    public void Pieces_and_parameters_make_the_statement()
    {
        string[] words =
        [
            "SELECT ",
            ":a",
            "'x",
            "'",
            "\"",
            "--",
            "\n",
            "/*",
            "*/",
            "$$",
            "`",
            "[",
            "]",
            "::",
            ":",
            "#",
            "\\",
            "é",
            ";",
            "?",
        ];
        Gen.Select(Gen.Int[0, words.Length - 1].Array[0, 12], Gen.Int[0, Engines.Count - 1])
            .Sample(
                (parts, engine) =>
                {
                    var sql = string.Concat(parts.Select(p => words[p]));
                    var read = SqlMarks.Read(sql, Engines.Values.ElementAt(engine));
                    var again = string.Concat(read.Pieces.Zip(read.Marks, (p, m) => $"{p}:{m.Name}")) + read.Pieces[^1];
                    Assert.Equal(sql, again);
                }
            );
    }
}
