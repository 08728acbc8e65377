using System.Text.RegularExpressions;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>The sign-off and all that belongs to it, sealed: whatever is altered later is told, by us and by hand.</summary>
public sealed partial class SealTests : IDisposable
{
    private readonly OddOffice _office = new();

    public void Dispose() => _office.Dispose();

    private string Run => Directory.GetDirectories(_office["transferra/runs"]).Single();

    private OddOffice Upgraded()
    {
        _office.Add("A", "sqlite", "one folder/a.db");
        _office.Add("B", "dbf", "one folder/b");
        _office.Ready().Upgrade().Expect(0);
        return _office;
    }

    private Called Verify(params string[] more) => _office.Run(["signoff", "--verify", .. more]);

    [Fact]
    public void After_an_upgrade_all_belongs_together_and_what_is_altered_is_named()
    {
        Upgraded();
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(_office["transferra/office-key.pem"]));
        Verify().Expect(0).Says("by the office's key SHA256:", "the old store of A", "the old store of B", "a set of A",
            "All of it is as it was sealed");
        // Each file that is sealed, with one byte more, or gone.
        foreach (string name in (string[])["signoff.html", "signoff.json", "signoff.sha256", "signoff.sig", "office.pem", "A/match.json",
            "B/backup.json"])
        {
            byte[] kept = File.ReadAllBytes(Path.Combine(Run, name));
            File.WriteAllBytes(Path.Combine(Run, name), [.. kept, (byte)' ', (byte)'x']);
            if (name != "office.pem") Verify().Expect(4).Says("NOT as it was sealed"); // behind a PEM block there may be anything
            if (!name.StartsWith("signoff.s", StringComparison.Ordinal))
            {
                File.Delete(Path.Combine(Run, name));
                Verify().Expect(name == "office.pem" ? 4 : 1).Says(name == "office.pem" ? "the signature" : "it is not there");
            }
            File.WriteAllBytes(Path.Combine(Run, name), kept);
        }
        Verify().Expect(0);
        // A set, an original.
        string set = Directory.GetFiles(_office["sets"], "A_*.tar").Single(), aside = set + ".away";
        File.Move(set, aside);
        Verify().Expect(1).Says("not there");
        File.Copy(Directory.GetFiles(_office["sets"], "B_*.tar").Single(), set);
        Verify().Expect(4).Says("ALTERED", "another set");
        File.Move(aside, set, overwrite: true);
        File.AppendAllText(OldOf("A"), " ");
        Verify().Expect(4).Says("ALTERED", "changed since");
    }

    [Fact]
    public void The_journal_may_go_on_but_not_be_another_and_a_key_of_somebody_else_is_told()
    {
        Upgraded();
        _office.Run("signoff", "--html", _office["page.html"]).Expect(0).Says("Sealed with the office's key SHA256:");
        Verify("--html", _office["page.html"]).Expect(0).Says("it is the one that was sealed");
        File.AppendAllText(_office["page.html"], "<p>more</p>");
        Verify("--html", _office["page.html"]).Expect(4).Says("it is not the one that was sealed");
        _office.Run("undo", "--yes", "A", "--yes", "B").Expect(0);
        Verify().Says("it has gone on since, by");
        _office.Run("signoff").Expect(0);
        Verify().SaysNot("it has gone on since");
        // Somebody signs a list of their own with a key of their own.
        TempFolder.Shell(Run, "openssl ecparam -name prime256v1 -genkey -noout -out k && openssl dgst -sha256 -sign k -out signoff.sig "
            + "signoff.sha256 && openssl ec -in k -pubout -out office.pem && rm k");
        Verify().Expect(4).Says("and not by the office's key");
        // Others may read it: it does not sign any more.
        File.SetUnixFileMode(_office["transferra/office-key.pem"], UnixFileMode.UserRead | UnixFileMode.GroupRead);
        _office.Run("signoff").Expect(2).Says("others may read the office's key", "chmod 600");
    }

    [GeneratedRegex("^    (?<command>[^ ].*)$", RegexOptions.Multiline | RegexOptions.ExplicitCapture)]
    private static partial Regex Command();

    [Fact]
    public void By_hand_as_the_page_says_with_other_peoples_tools_alone()
    {
        Upgraded();
        string page = File.ReadAllText(Path.Combine(TempFolder.Repository, "docs/verify-by-hand.md"));
        string script = string.Join('\n', Command().Matches(page).Select(match => match.Groups["command"].Value));
        Assert.Equal(14, script.Split('\n').Length);
        string set = Directory.GetFiles(_office["sets"], "A_*.tar").Single();
        string Said() => TempFolder.Shell(Run, $"export SET='{set}' OLD='{OldOf("A")}' NEW='{_office["one folder/a.db"]}' "
            + "W=\"$(mktemp -d)\" OLDSQL='SELECT INO, NAME, PRICE, MADE, GNO FROM ITEM ORDER BY INO' "
            + "NEWSQL='SELECT item_no, name, price, made, group_no FROM item ORDER BY item_no'\n" + script);
        string said = Said();
        Assert.Contains("Verified OK", said, StringComparison.Ordinal);
        Assert.Contains("signoff.html: OK", said, StringComparison.Ordinal);
        Assert.DoesNotContain("DIFFERS", said, StringComparison.Ordinal);
        Assert.EndsWith("\n5\n", said, StringComparison.Ordinal); // records, by the engine's own shell
        DemoFolder.Execute(_office["one folder/a.db"], "UPDATE item SET price = price + 1 WHERE item_no = 3");
        Assert.Contains("DIFFERS: the records", Said(), StringComparison.Ordinal);
        // What the page finds when something is altered.
        File.AppendAllText(Path.Combine(Run, "signoff.html"), " ");
        Assert.ThrowsAny<Exception>(Said);
    }

    private string OldOf(string code) => Directory.GetFiles(_office["one folder"], "*", SearchOption.AllDirectories).Single(path =>
        path.Contains($"-{code}/", StringComparison.Ordinal) && path.Contains("old-v1", StringComparison.Ordinal)
            && path.EndsWith(".db", StringComparison.Ordinal));
}
