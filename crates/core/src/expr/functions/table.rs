//! The table of all functions.

use super::{
    bodies::*,
    function::{
        Function, Gives,
        Takes::{Any, List, Number, Span, Text, TextOrNumber, TextOrSpan, TimeOrSpan},
    },
};
use crate::expr::{times::TimePart, value::Val};
use std::cmp::Ordering;

/// All of them. Each may be written before its first value or after it: `size(x)`, `x.size()`.
pub static FUNCTIONS: [Function; 45] = [
    Function::new(
        "size",
        &[Any],
        Gives::Number,
        "characters of a text, bytes, elements of a list, keys of a map",
        size,
    ),
    Function::new(
        "type",
        &[Any],
        Gives::Any,
        "the type: `int`, `uint`, `double`, `bool`, `string`, `bytes`, `list`, `map`, `null_type`",
        |a| Some(Ok(Val::Type(a.first()?.type_name()))),
    ),
    Function::new(
        "dyn",
        &[Any],
        Gives::Any,
        "the same value, about which nothing is known \
        beforehand",
        |a| Some(Ok(a.first()?.clone())),
    ),
    Function::new("string", &[Any], Gives::Text, "a text that says the value", string),
    Function::new("bytes", &[Any], Gives::Bytes, "the bytes of a text in UTF-8", bytes).tried(),
    Function::new(
        "int",
        &[Any],
        Gives::Number,
        "a whole number: of a text, of the seconds since 1970 of a time; fractions are cut off",
        |a| a.first()?.as_int().transpose(),
    )
    .tried(),
    Function::new("uint", &[Any], Gives::Number, "a whole number that is not negative", |a| {
        a.first()?.as_uint().transpose()
    })
    .tried(),
    Function::new(
        "double",
        &[Any],
        Gives::Number,
        "a number with a \
        fraction",
        |a| a.first()?.as_double().transpose(),
    )
    .tried(),
    Function::new("bool", &[Any], Gives::Bool, "true or false, of a text that says so", |a| {
        a.first()?.as_bool().map(|b| Ok(Val::Bool(b)))
    })
    .tried(),
    Function::new(
        "timestamp",
        &[TextOrNumber],
        Gives::Time,
        "a time: of a text in RFC 3339, of seconds since 1970",
        timestamp,
    )
    .tried(),
    Function::new(
        "duration",
        &[TextOrSpan],
        Gives::Span,
        "a length of time: `90s`, `1h30m`, `1.5h`, `-1s`, `2d`",
        duration,
    )
    .tried(),
    Function::new(
        "contains",
        &[Text, Text],
        Gives::Bool,
        "whether the second text is somewhere in \
        the first",
        |a| on_texts(a, |x, y| x.contains(y)),
    ),
    Function::new(
        "startsWith",
        &[Text, Text],
        Gives::Bool,
        "whether the first text begins with \
        the second",
        |a| on_texts(a, |x, y| x.starts_with(y)),
    ),
    Function::new(
        "endsWith",
        &[Text, Text],
        Gives::Bool,
        "whether the first text ends with the \
        second",
        |a| on_texts(a, |x, y| x.ends_with(y)),
    ),
    Function::new(
        "matches",
        &[Text, Text],
        Gives::Bool,
        "whether a regular expression (RE2's syntax) is found in the text",
        matches,
    ),
    Function::new(
        "glob",
        &[Text, Text],
        Gives::Bool,
        "whether the whole text has a form: `*` within a part, `**` across parts, `?` for one \
        character",
        glob,
    ),
    Function::new(
        "getFullYear",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the \
        year",
        |a| part(a, TimePart::Year),
    )
    .optional(1),
    Function::new(
        "getMonth",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the month, 0 for January",
        |a| part(a, TimePart::Month),
    )
    .optional(1),
    Function::new(
        "getDayOfYear",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the year, from \
        0",
        |a| part(a, TimePart::DayOfYear),
    )
    .optional(1),
    Function::new(
        "getDayOfMonth",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the month, from \
        0",
        |a| part(a, TimePart::DayOfMonth),
    )
    .optional(1),
    Function::new(
        "getDate",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the month, from \
        1",
        |a| part(a, TimePart::Date),
    )
    .optional(1),
    Function::new(
        "getDayOfWeek",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the day of the week, 0 for \
        Sunday",
        |a| part(a, TimePart::DayOfWeek),
    )
    .optional(1),
    Function::new(
        "getHours",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the hour, in UTC or in a zone such as `Europe/Oslo` or `+02:00`; of a length of time all \
        its hours",
        |a| part(a, TimePart::Hours),
    )
    .optional(1),
    Function::new(
        "getMinutes",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the minute; of a length of time all its minutes",
        |a| part(a, TimePart::Minutes),
    )
    .optional(1),
    Function::new(
        "getSeconds",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the second; of a length of time all its seconds",
        |a| part(a, TimePart::Seconds),
    )
    .optional(1),
    Function::new(
        "getMilliseconds",
        &[TimeOrSpan, Text],
        Gives::Number,
        "the milliseconds within \
        the second",
        |a| part(a, TimePart::Milliseconds),
    )
    .optional(1),
    Function::new(
        "seconds",
        &[Span],
        Gives::Number,
        "a length of time in seconds, with its \
        fraction",
        seconds,
    ),
    Function::new("lowerAscii", &[Text], Gives::Text, "in small letters, A to Z only", |a| {
        one_text(a, str::to_ascii_lowercase)
    }),
    Function::new("upperAscii", &[Text], Gives::Text, "in capital letters, a to z only", |a| {
        one_text(a, str::to_ascii_uppercase)
    }),
    Function::new("trim", &[Text], Gives::Text, "without white space at both ends", |a| {
        one_text(a, |t| t.trim().to_owned())
    }),
    Function::new(
        "slug",
        &[Text],
        Gives::Text,
        "as a part of a kind or a resource: letters, digits, `.`, `-` and `_` stay, whatever else \
        is between them becomes one `-`",
        |a| one_text(a, crate::text::slug),
    ),
    Function::new("split", &[Text, Text], Gives::Texts, "the pieces between a separator", split),
    Function::new(
        "join",
        &[List, Text],
        Gives::Text,
        "the elements as one text, with a separator \
        between them",
        join,
    )
    .optional(1),
    Function::new(
        "replace",
        &[Text, Text, Text],
        Gives::Text,
        "with every occurrence of the second text replaced by the third",
        replace,
    ),
    Function::new(
        "indexOf",
        &[Text, Text],
        Gives::Number,
        "where the second text first stands in the first, from 0; -1 if nowhere",
        index_of,
    ),
    Function::new(
        "substring",
        &[Text, Number, Number],
        Gives::Text,
        "the characters from one place up to another, which does not belong to it",
        substring,
    )
    .optional(1),
    Function::new("sort", &[List], Gives::List, "the elements in their order", sort),
    Function::new(
        "distinct",
        &[List],
        Gives::List,
        "the elements without those that came \
        before",
        distinct,
    ),
    Function::new(
        "flatten",
        &[List],
        Gives::List,
        "lists within the list opened out, one \
        level",
        flatten,
    ),
    Function::new(
        "slice",
        &[List, Number, Number],
        Gives::List,
        "the elements from one place up to another, which does not belong to it",
        slice,
    )
    .optional(1),
    Function::new(
        "min",
        &[Any, Any],
        Gives::Any,
        "the smaller of \
        two",
        |a| smaller(a, Ordering::Less),
    ),
    Function::new(
        "max",
        &[Any, Any],
        Gives::Any,
        "the larger of \
        two",
        |a| smaller(a, Ordering::Greater),
    ),
    Function::new(
        "round",
        &[Number],
        Gives::Number,
        "the nearest whole number; halves away from \
        zero",
        round,
    ),
    Function::new("abs", &[Number], Gives::Number, "the number without its sign", abs),
    Function::new(
        "isNaN",
        &[Number],
        Gives::Bool,
        "whether it is no number at all, as \
        `double(\"NaN\")` is",
        |a| a.first()?.number().map(|n| Ok(Val::Bool(n.is_nan()))),
    ),
];
