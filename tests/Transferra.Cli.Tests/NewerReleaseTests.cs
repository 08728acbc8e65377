using Transferra.Core.Records;
using Transferra.Stores;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>From a PostgreSQL server to one of a newer release: a rich database by a hop and by a set. The control was made by the newer
/// release itself.</summary>
public sealed class NewerReleaseTests : IDisposable
{
    private readonly OddOffice _office = new();
    private readonly TestServers _servers = new();

    private static readonly string[] Statements = File.ReadAllLines(Path.Combine(AppContext.BaseDirectory, "Rich", "postgresql.sql"));

    public void Dispose()
    {
        _office.Dispose();
        _servers.Dispose();
    }

    // What the server itself says of all that is in a database, with every record.
    private const string Listing = """
        SELECT string_agg(line, E'\n' ORDER BY line) FROM (
          SELECT concat('column ', c.oid::regclass, '.', a.attname, ' ', format_type(a.atttypid, a.atttypmod), a.attnotnull,
            a.attidentity, a.attgenerated, pg_get_expr(d.adbin, d.adrelid)) AS line
            FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid AND c.relkind IN ('r', 'p', 'v', 'm')
              LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum
            WHERE c.relnamespace::regnamespace::text !~ '^pg_|information_schema' AND a.attnum > 0 AND NOT a.attisdropped
          UNION ALL SELECT concat('relation ', c.oid::regclass, c.relkind, c.relpersistence, c.relowner::regrole, c.relrowsecurity,
            (SELECT string_agg(x::text, ',' ORDER BY x::text) FROM unnest(c.relacl) x), obj_description(c.oid, 'pg_class'),
            CASE WHEN c.relkind IN ('v', 'm') THEN pg_get_viewdef(c.oid) END)
            FROM pg_class c WHERE c.relnamespace::regnamespace::text !~ '^pg_|information_schema' AND c.relkind <> 'i'
          UNION ALL SELECT concat('constraint ', conrelid::regclass, conname, pg_get_constraintdef(oid)) FROM pg_constraint
            WHERE connamespace::regnamespace::text !~ '^pg_|information_schema' AND conrelid <> 0
          UNION ALL SELECT concat('index ', indexdef) FROM pg_indexes WHERE schemaname !~ '^pg_'
          UNION ALL SELECT concat('routine ', CASE WHEN prokind = 'a' THEN oid::regprocedure::text ELSE pg_get_functiondef(oid) END)
            FROM pg_proc p WHERE pronamespace::regnamespace::text !~ '^pg_|information_schema'
              AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.objid = p.oid AND e.deptype = 'e')
          UNION ALL SELECT concat('trigger ', pg_get_triggerdef(oid), tgenabled) FROM pg_trigger WHERE NOT tgisinternal
          UNION ALL SELECT concat('rule ', definition) FROM pg_rules WHERE schemaname !~ '^pg_'
          UNION ALL SELECT concat('policy ', policyname, tablename, cmd, qual) FROM pg_policies
          UNION ALL SELECT concat('sequence ', s) FROM pg_sequences s
          UNION ALL SELECT concat('type ', t.oid::regtype, typtype, (SELECT string_agg(enumlabel, ',' ORDER BY enumsortorder)
            FROM pg_enum WHERE enumtypid = t.oid)) FROM pg_type t WHERE typnamespace::regnamespace::text !~ '^pg_|information_schema'
              AND typtype IN ('e', 'd', 'c', 'r')
          UNION ALL SELECT concat('extension ', extname) FROM pg_extension
          UNION ALL SELECT concat('large object ', loid, pageno, encode(data, 'hex')) FROM pg_largeobject) lines
        """;

    private string Leftovers(StoreAddress store)
    {
        foreach (string left in new StoreOpener().ServerOf(store).Names(store.Path)
            .Where(name => name.Contains(StoreAddress.RunPrefix, StringComparison.Ordinal) && name.EndsWith(store.Path,
                StringComparison.Ordinal))) _servers.Known(store with { Path = left });
        return store.Path;
    }

    [Fact]
    public void A_set_of_an_older_release_is_restored_into_it()
    {
        StoreAddress store = _servers.Made("postgresql", "rich", Statements), control = _servers.MadeOnNewer("control", Statements),
            there = _servers.OnNewer("there");
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store)));
        _office.Ready();
        _office.Run("backup").Expect(0).Says("Proved:");
        _office.Companies[0] = new OddCompany("A", there, OddOffice.ServerYaml(there));
        _office.Ready();
        _office.Run("restore", "A", "--yes", "A").Expect(0);
        Assert.Equal(TestServers.Ask(control, Listing), TestServers.Ask(there, Listing));
        Assert.Equal(OddOffice.Rows(store), OddOffice.Rows(there));
        Leftovers(there);
    }

    [Fact]
    public void A_hop_takes_a_database_of_an_older_release_to_it()
    {
        _office.WriteKit(OddOffice.OldVersion, OddOffice.OldVersion.Replace("\"1\"", "\"2\"", StringComparison.Ordinal), """
            hop: {from: "1", to: "2"}
            tables:
              - {from: VER, into: {VER: {WHAT: WHAT, VAL: "'2'"}}, columns-left-out: {VAL: the version is a new one}}
              - {from: GRP, into: {GRP: {GNO: GNO, TITLE: TITLE}}}
              - {from: ITEM, into: {ITEM: {INO: INO, NAME: NAME, PRICE: PRICE, MADE: MADE, GNO: GNO}}}

            """);
        StoreAddress store = _servers.Made("postgresql", "rich", Statements), control = _servers.MadeOnNewer("control", Statements),
            there = _servers.OnNewer("there");
        _office.Companies.Add(new OddCompany("A", store, OddOffice.ServerYaml(store))
        {
            More = [$"new-store: {OddOffice.ServerYaml(there)}"]
        });
        _office.Ready();
        _office.Upgrade().Expect(0).Says("A through 2");
        _office.Run("match").Expect(0).Says("Proved: the new store of A");
        Assert.Equal(TestServers.Ask(control, Listing), TestServers.Ask(there, Listing));
        Leftovers(there);
    }
}
