// MachineTests.cs: what the bottom of the house promises: locks, open files, programs of others, and work in several threads.
using System.Diagnostics;
using System.Globalization;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Tests;

namespace Transferra.Core.Tests;

public sealed class MachineTests : IDisposable
{
    private readonly TempFolder _folder = new();

    public void Dispose() => _folder.Dispose();

    [Theory]
    [InlineData(0, "0.0 s")]
    [InlineData(0.26, "0.3 s")]
    [InlineData(59.97, "1 min 0 s")]
    [InlineData(119.7, "2 min 0 s")]
    [InlineData(3599.4, "59 min 59 s")]
    [InlineData(3599.6, "1 h 0 min")]
    [InlineData(10_890, "3 h 2 min")]
    [InlineData(93_580, "26 h 0 min")]
    public void A_measured_time_is_said_in_whole_units(double seconds, string words) => Assert.Equal(words, Durations.Of(seconds));

    [Fact]
    public void A_folder_is_locked_without_a_file_and_free_when_its_holder_ends()
    {
        using (FolderLock? first = FolderLock.TryTake(_folder.Path))
        {
            Assert.NotNull(first);
            Assert.Null(FolderLock.TryTake(_folder.Path));
            Assert.Empty(Directory.GetFileSystemEntries(_folder.Path));
        }
        using (Process holder = Process.Start("flock", ["-o", _folder.Path, "sleep", "30"]))
        {
            FolderLock? free = FolderLock.TryTake(_folder.Path);
            for (int i = 0; i < 100 && free is not null; i++)
            {
                free.Dispose();
                Thread.Sleep(20);
                free = FolderLock.TryTake(_folder.Path);
            }
            Assert.Null(free);
            holder.Kill(entireProcessTree: true);
            holder.WaitForExit();
        }
        using FolderLock? again = FolderLock.TryTake(_folder.Path);
        Assert.NotNull(again);
    }

    [Fact]
    public void Of_stores_asked_about_at_once_each_has_its_own_holders()
    {
        foreach (string name in (string[])["a.db", "b.db", "c.db", "caf\u00E9.db"]) File.WriteAllText(_folder[name], "x");
        string[] a = [_folder["a.db"]], b = [_folder["b.db"], _folder["caf\u00E9.db"]], c = [_folder["c.db"], _folder["not there"]];
        using Process first = Process.Start("tail", ["-f", _folder["a.db"], _folder["caf\u00E9.db"], _folder["b.db"]]),
            second = Process.Start("tail", ["-f", _folder["caf\u00E9.db"]]);
        try
        {
            IReadOnlyList<IReadOnlyList<FileHolder>> held = [];
            for (int i = 0; i < 100 && (held.Count == 0 || held[1].Count < 2); i++, Thread.Sleep(20))
                held = OpenFiles.HoldersOfEach([a, b, c, a, []]);
            int[] both = [.. new[] { first.Id, second.Id }.Order()];
            Assert.Equal([[first.Id], both, [], [first.Id], []],
                held.Select(holders => holders.Select(holder => holder.ProcessId).ToArray()));
        }
        finally
        {
            first.Kill();
            second.Kill();
        }
    }

    [Fact]
    public void A_file_held_open_is_recognised_through_links_of_it_and_of_folders_above_it()
    {
        Directory.CreateDirectory(_folder["real/deep"]);
        File.WriteAllText(_folder["real/deep/books.db"], "x");
        Directory.CreateSymbolicLink(_folder["way"], _folder["real"]);
        File.CreateSymbolicLink(_folder["link.db"], _folder["way/deep/books.db"]);
        Assert.Empty(OpenFiles.HoldersOf([_folder["link.db"], _folder["not there"]]));
        using Process holder = Process.Start(new ProcessStartInfo("tail", ["-f", _folder["way/deep/books.db"]])
        {
            RedirectStandardOutput = true
        })!;
        try
        {
            IReadOnlyList<FileHolder> held = [];
            for (int i = 0; i < 100 && held.Count == 0; i++, Thread.Sleep(20)) held = OpenFiles.HoldersOf([_folder["link.db"]]);
            FileHolder by = Assert.Single(held);
            Assert.Equal((holder.Id, "tail"), (by.ProcessId, by.Program));
            Assert.Equal(holder.Id, Assert.Single(OpenFiles.HoldersOf([_folder["real/deep/books.db"]])).ProcessId);
            Assert.Empty(OpenFiles.HoldersOf([_folder["not there"]]));
        }
        finally
        {
            holder.Kill();
        }
    }

    [Fact]
    public void A_program_that_is_started_may_leave_another_running_which_holds_nothing_of_ours()
    {
        var commands = new SystemCommands(_folder.Path, 0x12, []);
        string pid = _folder["pid"];
        CommandResult left = commands.Run(["sh", "-c", $"sleep 30 & echo $! > {pid}"], TimeSpan.FromSeconds(10));
        Assert.Equal(0, left.ExitCode);
        using Process running = Process.GetProcessById(int.Parse(File.ReadAllText(pid), CultureInfo.InvariantCulture));
        Assert.False(running.HasExited);
        string[] holds = [.. Enumerable.Range(0, 3).Select(number => new FileInfo($"/proc/{running.Id}/fd/{number}").LinkTarget ?? "")];
        Assert.DoesNotContain(holds, target => target.StartsWith("pipe:", StringComparison.Ordinal)
            || target.StartsWith("/dev/tty", StringComparison.Ordinal) || target.StartsWith("/dev/pts", StringComparison.Ordinal));
        running.Kill();
    }

    [Fact]
    public void A_program_that_does_not_end_in_time_is_killed_with_what_it_started()
    {
        string pid = _folder["pid"];
        TransferraException error = Assert.Throws<TransferraException>(() => new SystemCommands(_folder.Path, 0x12, [])
            .Run(["sh", "-c", $"sleep 30 & echo $! > {pid}; wait"], TimeSpan.FromSeconds(1)));
        Assert.Contains("did not end within 1 s, and was ended", error.Message, StringComparison.Ordinal);
        string started = $"/proc/{File.ReadAllText(pid).Trim()}";
        for (int i = 0; i < 100 && Directory.Exists(started); i++) Thread.Sleep(20);
        Assert.False(Directory.Exists(started));
    }

    [Fact]
    public void Work_done_ahead_is_taken_in_order_and_no_more_waits_than_is_allowed()
    {
        var random = new Random(2026);
        int begun = 0, taken = 0, most = 0;
        List<int> order = [];
        OrderedWork.Run(Enumerable.Range(0, 300).Select(i => (Func<int>)(() =>
        {
            most = Math.Max(most, Interlocked.Increment(ref begun) - Volatile.Read(ref taken));
            Thread.Sleep(i % 7 == 0 ? 3 : 0);
            return i;
        })), got =>
        {
            order.Add(got);
            Interlocked.Increment(ref taken);
        }, TestContext.Current.CancellationToken);
        Assert.Equal(Enumerable.Range(0, 300), order);
        Assert.InRange(most, 1, OrderedWork.Ahead + 1);
    }

    [Fact]
    public void When_one_piece_of_work_fails_all_that_was_begun_has_ended_before_it_is_told()
    {
        int running = 0;
        Assert.Throws<InvalidOperationException>(() => OrderedWork.Run(Enumerable.Range(0, 100).Select(i => (Func<int>)(() =>
        {
            Interlocked.Increment(ref running);
            Thread.Sleep(20);
            Interlocked.Decrement(ref running);
            return i == 3 ? throw new InvalidOperationException("the fourth") : i;
        })), _ => { }, TestContext.Current.CancellationToken));
        Assert.Equal(0, Volatile.Read(ref running));
    }

    private static readonly ColumnShape[] OneColumn = [new("NO", FieldType.Integer)];

    [Fact]
    public void What_is_read_ahead_comes_once_and_in_order_with_its_faults()
    {
        int next = 0, filled = 0;
        using var ahead = new ReadAhead(batch =>
        {
            filled++;
            for (int i = 0; i < 10 && next < 95; i++) ((LongVector)batch.Vectors[0]).Append(next++);
            if (batch.RowCount > 3) batch.Faults.Add(new RowFault(3, FaultCode.WrongKind, "NO", "x", "odd"));
            return next < 95;
        }, OneColumn, null, TestContext.Current.CancellationToken);
        Thread.Sleep(100);
        // Bounded: no more was read than there are batches to keep it in.
        Assert.InRange(Volatile.Read(ref filled), 1, 3);
        var into = new RecordBatch(OneColumn);
        List<long> seen = [];
        int faults = 0;
        while (ahead.Next(into))
        {
            seen.AddRange(((LongVector)into.Vectors[0]).Values[..into.RowCount]);
            faults += into.Faults.Count;
            Assert.All(into.Faults, fault => Assert.Equal(3, fault.Row));
        }
        Assert.Equal(Enumerable.Range(0, 95).Select(number => (long)number), seen);
        Assert.Equal(10, faults);
    }

    [Fact]
    public void A_reader_ahead_has_ended_when_it_is_disposed_and_its_error_is_told()
    {
        int inside = 0;
        var ahead = new ReadAhead(batch =>
        {
            Interlocked.Increment(ref inside);
            Thread.Sleep(50);
            ((LongVector)batch.Vectors[0]).Append(1);
            Interlocked.Decrement(ref inside);
            return true;
        }, OneColumn, null, TestContext.Current.CancellationToken);
        Thread.Sleep(20);
        ahead.Dispose();
        Assert.Equal(0, Volatile.Read(ref inside));
        using var failing = new ReadAhead(_ => throw new TransferraException("the disk"), OneColumn, null,
            TestContext.Current.CancellationToken);
        Assert.Equal("the disk", Assert.Throws<TransferraException>(() => failing.Next(new RecordBatch(OneColumn))).Message);
    }

    [Fact]
    public void What_is_written_behind_is_whole_on_the_disk_when_it_is_finished()
    {
        byte[] block = new byte[3 << 20];
        new Random(7).NextBytes(block);
        using var file = new FileStream(_folder["big"], FileMode.Create, FileAccess.ReadWrite, FileShare.Read, 0);
        using (var behind = new WriteBehind(file.SafeFileHandle))
        {
            for (int i = 0; i < 20; i++)
            {
                long at = file.Position;
                file.Write(block);
                behind.Wrote(at, block.Length);
            }
            behind.Finish();
        }
        file.Position = 0;
        byte[] read = new byte[block.Length];
        for (int i = 0; i < 20; i++)
        {
            file.ReadExactly(read);
            Assert.True(block.AsSpan().SequenceEqual(read));
        }
        file.WriteByte(1); // nothing uses the handle any more
    }
}
