namespace RapidGable.Core.Tests;

/// <summary>
/// A test shows rows of the protocol checklist. docs/conformance.md is made of these attributes, so a row counts as met only while a test
/// that carries it is there.
/// </summary>
/// <param name="rows">Such as <c>"P-01, Q-26 to Q-30"</c>.</param>
[AttributeUsage(AttributeTargets.Method)]
public sealed class ProvesAttribute(string rows) : Attribute
{
    public string Rows => rows;
}
