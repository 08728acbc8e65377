// ScriptText.cs: the characters of a script, with a look at the next few and the line that is reached.
namespace Transferra.Core.Scripts;

/// <param name="reader">The script, decoded.</param>
internal sealed class ScriptText(TextReader reader)
{
    private readonly char[] _block = new char[1 << 16];
    private readonly Queue<char> _ahead = [];
    private int _at, _filled;

    /// <summary>The line of the next character, from 1.</summary>
    public int Line { get; private set; } = 1;

    /// <summary>The character that was taken last; a line's end at the beginning.</summary>
    public char Before { get; private set; } = '\n';

    private bool Fill()
    {
        if (_at < _filled) return true;
        (_at, _filled) = (0, reader.Read(_block, 0, _block.Length));
        return _filled > 0;
    }

    /// <summary>The next character; -1 at the end.</summary>
    public int Next => _ahead.TryPeek(out char next) ? next : Fill() ? _block[_at] : -1;

    /// <summary>Whether a text comes next.</summary>
    public bool StartsWith(string wanted)
    {
        while (_ahead.Count < wanted.Length && Fill()) _ahead.Enqueue(_block[_at++]);
        if (_ahead.Count < wanted.Length) return false;
        int i = 0;
        foreach (char c in _ahead)
        {
            if (i == wanted.Length) break;
            if (c != wanted[i++]) return false;
        }
        return true;
    }

    /// <summary>The character behind the next; -1 when there is none.</summary>
    public int Second
    {
        get
        {
            while (_ahead.Count < 2 && Fill()) _ahead.Enqueue(_block[_at++]);
            return _ahead.Count < 2 ? -1 : _ahead.ElementAt(1);
        }
    }

    /// <summary>The third from here; -1 when there is none.</summary>
    public int Third
    {
        get
        {
            while (_ahead.Count < 3 && Fill()) _ahead.Enqueue(_block[_at++]);
            return _ahead.Count < 3 ? -1 : _ahead.ElementAt(2);
        }
    }

    /// <summary>Takes the next character.</summary>
    public char Take()
    {
        char c = _ahead.TryDequeue(out char ahead) ? ahead : Fill() ? _block[_at++] : throw new EndOfStreamException();
        if (c == '\n') Line++;
        return Before = c;
    }

    /// <summary>Takes the rest of the line, without its end.</summary>
    public string TakeLine()
    {
        var rest = new System.Text.StringBuilder();
        while (Next is >= 0 and not '\n') rest.Append(Take());
        return rest.ToString();
    }
}
