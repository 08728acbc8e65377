// ServerTls.cs: what is said when a connection is not as safe as office.yaml asks.
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

internal static class ServerTls
{
    /// <summary>The fact that tells how a store was reached.</summary>
    public const string Fact = "connection";

    /// <summary>What the fact says where nothing is encrypted.</summary>
    public static string Open(ServerAddress server) => IsHere(server) ? "not encrypted; it does not leave this machine" : "not encrypted";

    /// <summary>What the fact says where something is.</summary>
    /// <param name="server">How it was asked for.</param>
    /// <param name="how">The engine's word for it, such as "TLSv1.3".</param>
    public static string Said(ServerAddress server, string how) =>
        $"encrypted ({how}), {(server.Connection == ConnectionCare.Checked ? "certificate checked" : "certificate not checked")}";

    /// <summary>Looks whether what is asked for can be done.</summary>
    /// <exception cref="TransferraException">The authority's file cannot be read.</exception>
    public static void Judge(ServerAddress server)
    {
        if (server.Authority is not { } file) return;
        try
        {
            var certificates = new X509Certificate2Collection();
            certificates.ImportFromPemFile(file);
            if (certificates.Count == 0) throw new TransferraException($"there is no certificate in {file}",
                "Name a file of certificates in PEM with authority in office.yaml.");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException
            or System.Security.Cryptography.CryptographicException)
        {
            throw new TransferraException($"the certificates in {file} cannot be read: {error.Message}",
                "Correct authority in office.yaml, or who may read the file.", error);
        }
    }

    /// <summary>Whether a certificate is by whom we believe, for the name that we called.</summary>
    public static bool IsProved(ServerAddress server, X509Certificate? certificate, X509Chain? chain, SslPolicyErrors errors)
    {
        if (server.Authority is null || certificate is null || chain is null) return errors == SslPolicyErrors.None;
        if ((errors & ~SslPolicyErrors.RemoteCertificateChainErrors) != 0) return false;
        using var own = new X509Chain();
        own.ChainPolicy.TrustMode = X509ChainTrustMode.CustomRootTrust;
        own.ChainPolicy.CustomTrustStore.ImportFromPemFile(server.Authority);
        own.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
        foreach (X509ChainElement element in chain.ChainElements) own.ChainPolicy.ExtraStore.Add(element.Certificate);
        using var asked = new X509Certificate2(certificate);
        return own.Build(asked);
    }

    /// <summary>Whether what goes to the server never leaves this machine.</summary>
    public static bool IsHere(ServerAddress server) => server.Host is "localhost" or "127.0.0.1" or "::1" || server.Host.StartsWith('/');

    /// <summary>Whether a failure is one of encryption or of a certificate, where one was asked for.</summary>
    public static bool IsWhy(ServerAddress server, Exception error) => server.Connection != ConnectionCare.AsOffered
        && (error.GetBaseException() is System.Security.Authentication.AuthenticationException
        || error.Message.Contains("SSL", StringComparison.Ordinal)
        || error.InnerException?.Message.Contains("SSL", StringComparison.Ordinal) == true);

    /// <summary>The server does not encrypt, or is not the one that its certificate should prove.</summary>
    public static TransferraException Refused(string engine, string at, Exception error)
    {
        Exception first = error.GetBaseException();
        return new TransferraException($"the connection to the {engine} server at {at} is not as safe as office.yaml asks: {first.Message}",
            "No password was sent. Have the server's certificate made for the name that stands in office.yaml, name whom to believe with "
                + "authority, or find out who stands in between.", error);
    }
}
