using Transferra.Core.Records;
using Transferra.Stores.Mariadb;
using Transferra.Tests;

namespace Transferra.Stores.Tests;

public sealed class MariaKeysTests : IDisposable
{
    private readonly TestServers _servers = new();

    public void Dispose() => _servers.Dispose();

    // Every statement as the server itself writes the table out afterwards.
    public static TheoryData<string, string?, string?> Tables => new()
    {
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT, c VARCHAR(9), KEY k (b), UNIQUE KEY u (c, b), KEY m (c(3)))",
            "ALTER TABLE `t` ADD UNIQUE KEY `u` (`c`,`b`), ADD KEY `k` (`b`), ADD KEY `m` (`c`(3))", null },
        { "CREATE TABLE t (a INT, b INT NOT NULL, c INT, UNIQUE KEY u (b), KEY k (c))", "ALTER TABLE `t` ADD KEY `k` (`c`)", null },
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT)", null, null },
        // counted up by the server, so that what it is found by has to stay, and what stands before that
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT, n INT AUTO_INCREMENT, c INT, KEY k (b), KEY n (n), KEY m (c) COMMENT 'a, b')",
            "ALTER TABLE `t` ADD KEY `m` (`c`) COMMENT 'a, b'", null },
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT, KEY k (b), CONSTRAINT l FOREIGN KEY (b) REFERENCES p (x) ON DELETE CASCADE, "
            + "CHECK (b > 0))", "ALTER TABLE `t` ADD KEY `k` (`b`)",
            "ALTER TABLE `t` ADD CONSTRAINT `l` FOREIGN KEY (`b`) REFERENCES `p` (`x`) ON DELETE CASCADE" },
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT, KEY k (b)) ENGINE=Aria", null, null },
        { "CREATE TABLE t (a INT PRIMARY KEY, b INT, KEY k (b)) WITH SYSTEM VERSIONING", null, null },
        { "CREATE TABLE t (a INT PRIMARY KEY, b TEXT, c INT, FULLTEXT KEY f (b), KEY k (c))", null, null }, // its order would change
        { "CREATE TABLE t (a INT PRIMARY KEY, b TEXT, c INT, UNIQUE KEY h (b) USING HASH, KEY k (c))",
            "ALTER TABLE `t` ADD KEY `k` (`c`)", null },
        { "CREATE TABLE t (a INT, b INT, KEY k (b), PRIMARY KEY (a)) PARTITION BY HASH (a) PARTITIONS 3",
            "ALTER TABLE `t` ADD KEY `k` (`b`)", null },
        { "CREATE TABLE t (`a``b` INT PRIMARY KEY, `k, (x` INT, KEY `o``dd) KEY` (`k, (x`, `a``b`))",
            "ALTER TABLE `t` ADD KEY `o``dd) KEY` (`k, (x`,`a``b`)", null },
    };

    [Theory]
    [MemberData(nameof(Tables))]
    public void Parted_and_made_in_parts_a_table_is_the_same(string made, string? keys, string? links)
    {
        StoreAddress address = _servers.Made("mariadb", "books", "CREATE TABLE p (x INT PRIMARY KEY)", made);
        using MySqlConnector.MySqlConnection connection = MariaConnection.Open(address.Server!, address.Path);
        string Written() => MariaServer.List(connection, "SHOW CREATE TABLE t", 1)[0];
        string whole = Written();
        MariaKeys parted = MariaKeys.Of(whole);
        Assert.Equal((keys, links), (parted.Keys, parted.Links));
        MariaConnection.Execute(connection, "DROP TABLE t; SET foreign_key_checks = 0");
        foreach (string statement in ((string?[])[parted.Made, parted.Keys, parted.Links]).OfType<string>())
            MariaConnection.Execute(connection, statement);
        Assert.Equal(whole, Written());
    }

    [Theory]
    [InlineData("CREATE SEQUENCE `s` start with 1")]
    [InlineData("CREATE TABLE `t` (\n  `a` int(11)\n) ENGINE=InnoDB")] // of another form
    [InlineData("CREATE TABLE `t` (\n  `a` int(11) NOT NULL,\n  PRIMARY KEY (`a`),\n  KEY `k` (`a`),\n  NEWER KEY `n` (`a`)\n) "
        + "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4")] // the order of its indexes would change
    [InlineData("")]
    public void What_is_no_such_statement_stays_whole(string statement) =>
        Assert.Equal(new MariaKeys(statement, null, null), MariaKeys.Of(statement));
}
