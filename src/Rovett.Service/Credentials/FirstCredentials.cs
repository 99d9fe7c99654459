namespace Rovett.Service.Credentials;

/// <summary>The credentials of a space, shown on the first start and never again.</summary>
public sealed record FirstCredentials(string Space, string AdminKey, string TokenSigningSecret);
