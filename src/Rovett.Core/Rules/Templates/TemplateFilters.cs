using System.Globalization;
using Fluid;
using Fluid.Values;

namespace Rovett.Core.Rules.Templates;

/// <summary>The filters that templates can use: each bounded in what it returns, and strict about what it is given.</summary>
static class TemplateFilters
{
    static readonly string[] Texts = ["upcase", "downcase", "capitalize", "strip", "lstrip", "rstrip", "truncate", "truncatewords"];
    static readonly string[] Numbers = ["plus", "minus", "times", "divided_by", "modulo", "round", "floor", "ceil", "abs", "at_least",
        "at_most"];
    const int MostPadded = 64;

    static readonly string[] Others = ["default", "size", "first", "last"];

    /// <summary>Their names, in order.</summary>
    public static readonly IReadOnlyList<string> Names = [.. Texts.Concat(Numbers).Concat(Others)
        .Concat(["append", "prepend", "replace", "remove", "join", "date"]).Order(StringComparer.Ordinal)];

    /// <summary>Options with these filters and no others.</summary>
    public static TemplateOptions Options(TimeZoneInfo zone)
    {
        var given = new TemplateOptions();
        var options = new TemplateOptions { MaxSteps = 20_000, MaxRecursion = 50, TimeZone = zone };
        var inner = Names.Where(n => given.Filters.TryGetValue(n, out _))
            .ToDictionary(n => n, n => given.Filters.TryGetValue(n, out var filter) ? filter : null!);
        options.Filters.Clear();
        foreach (var name in Texts) options.Filters.AddFilter(name, Strict(name, inner[name], TextOf));
        foreach (var name in Numbers) options.Filters.AddFilter(name, Strict(name, inner[name], NumberOf));
        foreach (var name in Others)
        {
            options.Filters.AddFilter(name, name == "default" ? Charged(inner[name]) : Strict(name, inner[name], static (_, v) => v));
        }
        var date = inner["date"];
        options.Filters.AddFilter("date", Strict("date", (input, arguments, context) =>
        {
            if (arguments.Count > 0) RequireShort(arguments.At(0).ToStringValue());
            return date(Time(input, zone), arguments, context);
        }, static (_, v) => v));
        options.Filters.AddFilter("append", Strict("append", Append, TextOf));
        options.Filters.AddFilter("prepend", Strict("prepend", Prepend, TextOf));
        options.Filters.AddFilter("replace", Strict("replace", Replace, TextOf));
        options.Filters.AddFilter("remove", Strict("remove", Replace, TextOf));
        options.Filters.AddFilter("join", Strict("join", Join, static (_, v) => v));
        return options;
    }

    static FilterDelegate Charged(FilterDelegate inner) => (input, arguments, context) =>
    {
        TemplateWork.Of(context).Charge();
        return inner(input is MissingValue ? NilValue.Instance : input, arguments, context);
    };

    static FilterDelegate Strict(string name, FilterDelegate inner, Func<string, FluidValue, FluidValue> convert) =>
        (input, arguments, context) =>
        {
            if (input is MissingValue missing) throw missing.Fault;
            if (input.IsNil()) throw new TemplateFault($"the filter '{name}' is given nothing");
            for (int i = 0; i < arguments.Count; i++)
            {
                if (arguments.At(i) is MissingValue argument) throw argument.Fault;
            }
            var value = convert(name, input);
            TemplateWork.Of(context).Charge(value is StringValue text ? text.ToStringValue().Length : 0);
            try
            {
                return inner(value, arguments, context);
            }
            catch (Exception error) when (error is OverflowException or DivideByZeroException or FormatException)
            {
                throw new TemplateFault($"the filter '{name}' fails: {error.Message}");
            }
        };

    static FluidValue TextOf(string name, FluidValue value) => value.Type switch
    {
        FluidValues.String => value,
        FluidValues.Number or FluidValues.Boolean => new StringValue(value.ToStringValue()),
        _ => throw new TemplateFault($"the filter '{name}' needs a text"),
    };

    static FluidValue NumberOf(string name, FluidValue value)
    {
        if (value.Type == FluidValues.Number) return NumberValue.Create(value.ToNumberValue());
        if (value.Type == FluidValues.String
            && decimal.TryParse(value.ToStringValue(), CultureInfo.InvariantCulture, out decimal number))
        {
            return NumberValue.Create(number);
        }
        throw new TemplateFault($"the filter '{name}' needs a number");
    }

    /// <summary>The engine pads what a format asks for to the width it names, however wide.</summary>
    static void RequireShort(string format)
    {
        TemplateWork.Fits((long)format.Length * MostPadded);
        for (int at = format.IndexOf('%'); at >= 0; at = format.IndexOf('%', at + 1))
        {
            int digits = 0;
            for (int i = at + 1; i < format.Length && (char.IsDigit(format[i]) || format[i] is '-' or '_' or '^' or '#' or ':' or '+'); i++)
            {
                digits = char.IsDigit(format[i]) ? digits + 1 : digits;
            }
            if (digits > 1) throw new TemplateFault("the filter 'date' takes widths of one digit, such as '%3N'");
        }
    }

    /// <summary>A time in the space's zone, whatever zone it is written in.</summary>
    static FluidValue Time(FluidValue value, TimeZoneInfo zone)
    {
        var text = value.ToStringValue();
        if (text is "now" or "today") return value;
        return DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time)
            ? new DateTimeValue(TimeZoneInfo.ConvertTime(time, zone))
            : throw new TemplateFault($"the filter 'date' needs a time (RFC 3339), not '{(text.Length > 40 ? text[..40] + "…" : text)}'");
    }

    static ValueTask<FluidValue> Append(FluidValue input, FilterArguments arguments, TemplateContext context) =>
        Joined(input.ToStringValue(), arguments.At(0).ToStringValue());

    static ValueTask<FluidValue> Prepend(FluidValue input, FilterArguments arguments, TemplateContext context) =>
        Joined(arguments.At(0).ToStringValue(), input.ToStringValue());

    static StringValue Joined(string first, string second)
    {
        TemplateWork.Fits((long)first.Length + second.Length);
        return new StringValue(first + second);
    }

    static ValueTask<FluidValue> Replace(FluidValue input, FilterArguments arguments, TemplateContext context)
    {
        string text = input.ToStringValue(), old = arguments.At(0).ToStringValue();
        var with = arguments.Count > 1 ? arguments.At(1).ToStringValue() : "";
        if (old.Length == 0) return input;
        long times = 0;
        for (int at = text.IndexOf(old, StringComparison.Ordinal); at >= 0; at = text.IndexOf(old, at + old.Length,
            StringComparison.Ordinal))
        {
            times++;
        }
        TemplateWork.Fits(text.Length + times * (with.Length - old.Length));
        return new StringValue(text.Replace(old, with, StringComparison.Ordinal));
    }

    static ValueTask<FluidValue> Join(FluidValue input, FilterArguments arguments, TemplateContext context)
    {
        if (input is not ArrayValue array) throw new TemplateFault("the filter 'join' needs a list");
        var separator = arguments.Count > 0 ? arguments.At(0).ToStringValue() : " ";
        var texts = array.Values.Select(v => v is MissingValue m ? throw m.Fault : v.ToStringValue()).ToList();
        TemplateWork.Of(context).Charge(texts.Sum(t => t.Length));
        TemplateWork.Fits(texts.Sum(t => (long)t.Length) + (long)separator.Length * texts.Count);
        return new StringValue(string.Join(separator, texts));
    }
}
