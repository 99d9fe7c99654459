using System.Reflection;
using System.Reflection.Emit;
using Rovett.Client;
using Rovett.Core.Ledgers;
using Rovett.Service.Hosting;
using Rovett.Storage;
using Shouldly;
using Xunit;

namespace Rovett.Service.Tests;

/// <summary>The order of the namespaces, read from the compiled assemblies: lower rooms never use upper ones.</summary>
public sealed class RoomTests
{
    const BindingFlags All =
        BindingFlags.Public | BindingFlags.NonPublic | BindingFlags.Static | BindingFlags.Instance | BindingFlags.DeclaredOnly;
    static readonly Dictionary<short, OpCode> Codes = typeof(OpCodes).GetFields().Select(f => (OpCode)f.GetValue(null)!)
        .ToDictionary(c => c.Value);

    public static TheoryData<Type> Projects { get; } = [typeof(Ledger), typeof(StoreException), typeof(RovettService),
        typeof(RovettClient)];

    [Theory]
    [MemberData(nameof(Projects))]
    public void No_rooms_of_a_project_use_each_other_in_a_circle(Type any)
    {
        var arrows = Arrows(any.Assembly);
        foreach (var room in arrows.Keys)
        {
            var seen = new HashSet<string>();
            var todo = new Stack<string>(arrows[room].Keys);
            while (todo.TryPop(out var next))
            {
                if (!seen.Add(next) || !arrows.TryGetValue(next, out var further)) continue;
                foreach (var one in further.Keys) todo.Push(one);
            }
            seen.ShouldNotContain(room, $"{room} uses: {string.Join("; ", arrows[room].Select(a => $"{a.Key} ({a.Value})"))}");
        }
    }

    [Fact]
    public void The_core_is_in_order()
    {
        string[] order =
        [
            "Values", "Addresses", "Events", "Marks", "Choices", "Yaml", "Schemas", "Notifications", "Catalogues", "Policies",
                "Rules.Templates", "Rules", "Store",
                "Visibility", "Wire.WebSockets", "Wire.Sse", "Wire",
            "Delivery", "Nodes", "Presence", "Ledgers", "Ledgers.Commands", "Links",
        ];
        int Rank(string room)
        {
            var name = room["Rovett.Core.".Length..];
            return Array.FindLastIndex(order, o => name == o || name.StartsWith(o + ".", StringComparison.Ordinal));
        }
        var arrows = Arrows(typeof(Ledger).Assembly);
        arrows.Count.ShouldBeGreaterThan(10);
        foreach (var (room, uses) in arrows)
        {
            Rank(room).ShouldBeGreaterThanOrEqualTo(0, room);
            foreach (var (other, why) in uses) Rank(other).ShouldBeLessThanOrEqualTo(Rank(room), $"{room} uses {other}: {why}");
        }
    }

    /// <summary>By room, the rooms of the same assembly that it uses, each with one type that does so.</summary>
    static Dictionary<string, Dictionary<string, string>> Arrows(Assembly assembly)
    {
        var arrows = new Dictionary<string, Dictionary<string, string>>();
        foreach (var type in assembly.GetTypes().Where(t => t.Namespace?.StartsWith("Rovett", StringComparison.Ordinal) == true))
        {
            foreach (var used in Uses(type).SelectMany(Parts))
            {
                if (used.Assembly != assembly || used.Namespace is not { } room || room == type.Namespace
                    || !room.StartsWith("Rovett", StringComparison.Ordinal))
                {
                    continue;
                }
                if (!arrows.TryGetValue(type.Namespace!, out var uses)) arrows[type.Namespace!] = uses = [];
                uses.TryAdd(room, $"{type.Name} uses {used.Name}");
            }
        }
        return arrows;
    }

    static IEnumerable<Type> Parts(Type type)
    {
        if (type.HasElementType) return Parts(type.GetElementType()!);
        return type.IsGenericType ? type.GetGenericArguments().SelectMany(Parts).Append(type.GetGenericTypeDefinition()) : [type];
    }

    static IEnumerable<Type> Uses(Type type)
    {
        if (type.BaseType is { } parent) yield return parent;
        foreach (var i in type.GetInterfaces()) yield return i;
        foreach (var field in type.GetFields(All)) yield return field.FieldType;
        foreach (var method in type.GetMethods(All).Cast<MethodBase>().Concat(type.GetConstructors(All)))
        {
            if (method is MethodInfo { ReturnType: var returned }) yield return returned;
            foreach (var parameter in method.GetParameters()) yield return parameter.ParameterType;
            foreach (var used in InBody(method)) yield return used;
        }
    }

    static IEnumerable<Type> InBody(MethodBase method)
    {
        if (method.GetMethodBody() is not { } body || body.GetILAsByteArray() is not { } il) yield break;
        foreach (var local in body.LocalVariables) yield return local.LocalType;
        for (int at = 0; at < il.Length;)
        {
            short value = il[at] == 0xFE ? (short)(0xFE00 | il[at + 1]) : il[at];
            var code = Codes[value];
            at += code.Size;
            if (code.OperandType is OperandType.InlineType or OperandType.InlineMethod or OperandType.InlineField or OperandType.InlineTok
                && Resolve(method, BitConverter.ToInt32(il, at)) is { } member)
            {
                yield return member as Type ?? member.DeclaringType!;
                if (member is MethodInfo { IsGenericMethod: true } generic)
                {
                    foreach (var argument in generic.GetGenericArguments()) yield return argument;
                }
            }
            at += code.OperandType switch
            {
                OperandType.InlineNone => 0,
                OperandType.ShortInlineBrTarget or OperandType.ShortInlineI or OperandType.ShortInlineVar => 1,
                OperandType.InlineVar => 2,
                OperandType.InlineI8 or OperandType.InlineR => 8,
                OperandType.InlineSwitch => 4 + 4 * BitConverter.ToInt32(il, at),
                _ => 4,
            };
        }
    }

    static MemberInfo? Resolve(MethodBase method, int token)
    {
        try
        {
            return method.Module.ResolveMember(token, method.DeclaringType?.GetGenericArguments(),
                method.IsGenericMethod ? method.GetGenericArguments() : null);
        }
        catch (ArgumentException)
        {
            return null; // a vararg signature
        }
    }
}
