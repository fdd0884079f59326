using RapidGable.Payloads;

namespace RapidGable.Service.Faces.OData;

/// <summary>One request to one service, with what its headers say in OData's words.</summary>
internal sealed record ODataExchange : Exchange
{
    public ODataExchange(Exchange exchange, ODataVersion version)
        : base(exchange)
    {
        Version = version;
        Preferences = new Preferences(exchange.Request.Headers);
    }

    public ODataVersion Version { get; }

    public Preferences Preferences { get; }
}
