using Rovett.Core.Addresses;
using Rovett.Service.Http;

namespace Rovett.Service.Endpoints.Admin;

/// <summary>Names of keys and spaces, which also stand in paths.</summary>
static class GivenNames
{
    /// <summary>The member <c>name</c> in its normal form; empty, with an error, when it is no name.</summary>
    /// <param name="given">The value given.</param>
    /// <param name="name">The name in it.</param>
    /// <param name="says">What the name says.</param>
    public static string NameIn<T>(this Given<T> given, string? name, string says)
    {
        if (name is not null && Names.CheckForPath(name, out var normal) is null) return normal;
        if (!given.Has("name") || given.IsSound("name")) given.Wrong("name", $"must be 1 to 128 characters that say {says}");
        return "";
    }
}
