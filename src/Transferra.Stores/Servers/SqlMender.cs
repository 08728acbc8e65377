// SqlMender.cs: what menders of engines with SQL have in common: one transaction, statements that must meet exactly one record.
using System.Data.Common;
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal abstract class SqlMender(DbConnection connection, string where) : IStoreMender
{
    protected DbConnection Connection { get; } = connection;

    protected DbTransaction? Transaction { get; set; }

    public abstract bool HasPlacesOfOriginal { get; }

    public abstract ColumnShape Prepare(TableShape table);

    /// <summary>A table's or column's name as the engine quotes it.</summary>
    protected abstract string Name(string table, string? column = null);

    /// <summary>The condition that finds one record, over the parameter named place.</summary>
    protected abstract string AtPlace(string table);

    /// <summary>A place as the engine takes it.</summary>
    protected abstract object Place(Vector places, int row);

    public abstract bool CanHold(TableShape table, ColumnShape column, string value);

    /// <summary>How a column is set.</summary>
    /// <param name="table">The table's name.</param>
    /// <param name="column">The column.</param>
    /// <param name="value">Its value.</param>
    /// <param name="parameter">Name of a parameter for it, with its mark; added to the command when it is used.</param>
    /// <param name="command">The statement.</param>
    protected abstract string Setting(string table, ColumnShape column, string value, string parameter, DbCommand command);

    /// <summary>What the driver throws.</summary>
    protected abstract bool IsOfEngine(Exception error);

    public void Delete(TableShape table, Vector places, int row)
    {
        using DbCommand command = Command($"DELETE FROM {Name(table.Name)} WHERE {AtPlace(table.Name)}");
        Add(command, "place", Place(places, row));
        Do(command, table.Name, places, row);
    }

    public void Update(TableShape table, Vector places, int row, IReadOnlyList<KeyValuePair<ColumnShape, string>> values)
    {
        using DbCommand command = Command("");
        string settings = string.Join(", ", values.Select((value, i) =>
            $"{Name(table.Name, value.Key.Name)} = "
                + $"{Setting(table.Name, value.Key, value.Value, FormattableString.Invariant($"@value{i}"), command)}"));
#pragma warning disable CA2100 // names are quoted, values are parameters
        command.CommandText = $"UPDATE {Name(table.Name)} SET {settings} WHERE {AtPlace(table.Name)}";
#pragma warning restore CA2100
        Add(command, "place", Place(places, row));
        Do(command, table.Name, places, row);
    }

    private void Do(DbCommand command, string table, Vector places, int row)
    {
        int met;
        try { met = command.ExecuteNonQuery(); }
        catch (Exception error) when (IsOfEngine(error))
        {
            throw new TransferraException($"a record of {table} in {where} cannot be changed: {error.Message}",
                "Nothing of the old store was changed. Look into the engine's log, and mend by hand if need be.", error);
        }
        if (met != 1)
            throw new TransferraException(string.Create(CultureInfo.InvariantCulture,
                $"{met} records of {table} in {where} lie at {places.Show(row)} and not one"),
                "Nothing of the old store was changed. This is a defect of Transferra; report it.");
    }

    protected DbCommand Command(string sql)
    {
        DbCommand command = Connection.CreateCommand();
#pragma warning disable CA2100 // names are quoted, values are parameters
        command.CommandText = sql;
#pragma warning restore CA2100
        command.Transaction = Transaction;
        command.CommandTimeout = 0;
        return command;
    }

    protected static void Add(DbCommand command, string name, object value)
    {
        DbParameter parameter = command.CreateParameter();
        parameter.ParameterName = name;
        parameter.Value = value;
        command.Parameters.Add(parameter);
    }

    protected void Execute(string sql)
    {
        using DbCommand command = Command(sql);
        command.ExecuteNonQuery();
    }

    protected List<string?[]> Rows(string sql)
    {
        using DbCommand command = Command(sql);
        using DbDataReader reader = command.ExecuteReader();
        var rows = new List<string?[]>();
        while (reader.Read())
            rows.Add([.. Enumerable.Range(0, reader.FieldCount)
                .Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture)?.Trim())]);
        return rows;
    }

    protected static long Whole(string? text) => text is null ? 0 : long.Parse(text, CultureInfo.InvariantCulture);

    public abstract string RebuildIndexes();

    public abstract IReadOnlyList<PositionChange> SetPositions();

    public abstract void Complete();

    public virtual void Dispose()
    {
        Transaction?.Dispose();
        Connection.Dispose();
    }
}
