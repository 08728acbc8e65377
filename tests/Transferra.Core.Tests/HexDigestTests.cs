using Transferra.Core.Machine;

namespace Transferra.Core.Tests;

public sealed class HexDigestTests
{
    [Theory]
    [InlineData(null)]
    [InlineData("")]
    [InlineData("00")]
    [InlineData("0")] // no whole byte
    [InlineData("0G")]
    [InlineData("AB")] // in capitals it is another text
    [InlineData("0123456789abcdef0123456789abcdef")]
    [InlineData("ffffffffffffffffffffffffffffffffffffffffffffffffffffffffffffff00")]
    [InlineData("0000000000000000000000000000000000000000000000000000000000000000")]
    [InlineData("000000000000000000000000000000000000000000000000000000000000000000")] // longer than any
    [InlineData("not a digest")]
    public void What_comes_out_is_what_went_in(string? text)
    {
        Assert.Equal(text, HexDigest.Of(text).Text);
        Assert.Equal(HexDigest.Of(text), HexDigest.Of(text is null ? null : new string(text)));
        Assert.NotEqual(HexDigest.Of(text), HexDigest.Of(text + "00"));
    }
}
