// SampleKit.cs: a small kit for tests: two versions, one hop, every kind of rule once.
using Transferra.Core.Kits;
using Transferra.Core.Means;
using Transferra.Tests;

namespace Transferra.Core.Tests;

internal static class SampleKit
{
    public const string Kit = """
        kit: sample
        title: Sample
        versions: ["1", "2"]
        hops: [1-to-2]
        """;

    public const string Old = """
        version: "1"
        told-by: [{header: user_version, is: "1"}]
        tables:
          PART:
            columns: {PNO: INTEGER NOT NULL, NAME: VARCHAR(20), PRICE: VARCHAR(10), KIND: VARCHAR(1), MADE: VARCHAR(8), GROUPNO: INTEGER,
              SPARE: VARCHAR(1)}
            key: [PNO]
            relations: [{columns: [GROUPNO], to: GRP, on: [GNO]}]
          GRP:
            columns: {GNO: INTEGER NOT NULL, TITLE: VARCHAR(20)}
            key: [GNO]
          MEMO:
            columns: {REF: VARCHAR(5) NOT NULL, LINE: INTEGER NOT NULL, TXT: VARCHAR(20)}
            key: [REF, LINE]
          OLDLOG:
            columns: {ID: INTEGER}
        rules:
          - {name: prices of a group, table: PART, by: [GROUPNO], sum: "CAST(PRICE AS DECIMAL(10,2))", must-be: "10.00"}
        control-totals:
          - {name: Prices, decimals: 2, sql: {memory: "old prices"}}
        """;

    public const string New = """
        version: "2"
        told-by: [{header: user_version, is: "2"}]
        header-fields: {user_version: "2"}
        tables:
          part:
            columns: {part_no: INTEGER NOT NULL, name: VARCHAR(20) NOT NULL, price: "DECIMAL(10,2) NOT NULL", kind: VARCHAR(6) NOT NULL,
              made_on: DATE, group_title: VARCHAR(20)}
            key: [part_no]
          part_name:
            columns: {name: VARCHAR(20) NOT NULL, part_no: INTEGER NOT NULL}
            key: [name]
          grp:
            columns: {group_no: INTEGER NOT NULL, title: VARCHAR(20)}
            key: [group_no]
          memo:
            columns: {reference: VARCHAR(5) NOT NULL, body: TEXT}
            key: [reference]
          setting:
            columns: {name: VARCHAR(20) NOT NULL, value: VARCHAR(20)}
            key: [name]
        control-totals:
          - {name: Prices, decimals: 2, sql: {memory: "new prices"}}
        """;

    public const string Hop = """
        hop: {from: "1", to: "2"}
        new-settings: [{name: scheme, question: Which scheme?, choices: [a, b]}]
        new-records: [{into: setting, columns: {name: "'scheme'", value: ":scheme"}, because: new in version 2}]
        tables-left-out: {OLDLOG: only of use to the program}
        tables:
          - from: PART
            lookups:
              kinds: {by: KIND, codes: {S: string, W: wind}}
              grp: {by: GROUPNO, table: GRP, on: GNO}
            into:
              part:
                part_no: PNO
                name: {is: TRIM(TRAILING FROM NAME), changes: blanks removed}
                price: CAST(PRICE AS DECIMAL(10,2))
                kind: {is: kinds.code, changes: kinds written out, compared-with: KIND}
                made_on: CAST(MADE AS DATE FORMAT 'DD/MM/RR')
                group_title: grp.TITLE
              part_name: {name: {is: TRIM(TRAILING FROM NAME), changes: blanks removed}, part_no: PNO}
            columns-left-out: {SPARE: never used}
            rows-left-out: [{where: "NAME = 'VOID'", because: voided}]
            exact-copies: {keep: first, because: double import}
          - from: GRP
            into: {grp: {group_no: GNO, title: TITLE}}
          - from: MEMO
            into: {memo: {reference: REF, body: TXT}}
            lines-combined: {by: [REF], text: TXT, separator: "/", because: one text}
        """;

    public static readonly Dictionary<string, string> Settings = new() { ["scheme"] = "a" };

    public static Correspondence LoadHop() => Load().Hops[0].Correspondence;

    public static Kit Load(string? hop = null, string? old = null)
    {
        var errors = new DescriptionErrors();
        Kit? kit = Load(errors, hop, old);
        errors.ThrowIfAny();
        return kit!;
    }

    public static Kit? Load(DescriptionErrors errors, string? hop = null, string? old = null, string? kit = null)
    {
        using var folder = new TempFolder();
        folder.Write("kit.yaml", kit ?? Kit);
        folder.Write("versions/1.yaml", old ?? Old);
        folder.Write("versions/2.yaml", New);
        folder.Write("hops/1-to-2.yaml", hop ?? Hop);
        return KitLoader.Load(folder.Path, "kits/sample", KnownKinds.All, errors);
    }

    /// <summary>An old store with the given parts and two groups.</summary>
    public static MemoryStore Store(Correspondence hop, params object?[][] parts)
    {
        var store = new MemoryStore();
        store.With(hop.From.Table("PART")!, parts);
        store.With(hop.From.Table("GRP")!, [1L, "Violins"], [2L, "Horns"]);
        store.With(hop.From.Table("MEMO")!, ["M1", 2L, "bow"], ["M1", 1L, "case"], ["M2", 1L, "reed"]);
        store.With(hop.From.Table("OLDLOG")!, [1L]);
        return store;
    }

    /// <summary>A part: number, name, price, and what differs from the usual.</summary>
    public static object?[] Part(long number, string? name, string? price = "1.00", string? kind = "S", string? made = "01/02/20",
        long? group = 1) =>
        [number, name, price, kind, made, group, null];
}
