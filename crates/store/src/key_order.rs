//! The keys of a payload as its sender wrote them. PostgreSQL keeps the keys of an object in an
//! order of its own, by length and then by bytes; beside the payload stands in which order they
//! came, so that people find in it what they know.
//!
//! For each object with several keys, the outer before the inner, one character a key says which of
//! the database's keys comes next; one character alone says that the object came as the database
//! keeps it.

use serde_json::{Map, Value};
use std::str::Chars;

/// An object that came as it is kept.
const SAME: char = '\u{1}';
/// The character of the first key.
const FIRST: u32 = 0x20;
/// Most characters; a payload with more to say stays as the database keeps it.
const MOST: usize = 4096;

/// In which order the keys of a value came; empty if that is how they are kept.
pub(crate) fn order_of(value: &Value) -> String {
    let mut order = String::new();
    let differs = note(value, &mut order);
    if differs && order.chars().count() <= MOST { order } else { String::new() }
}

/// Notes the order of a value and all that is in it; whether any differs from the kept one.
fn note(value: &Value, order: &mut String) -> bool {
    // What is too much already need not be gone through to its end.
    if order.len() > 4 * MOST {
        return false;
    }
    match value {
        Value::Array(items) => {
            items.iter().fold(false, |differs, item| note(item, order) | differs)
        }
        Value::Object(map) => {
            let mut kept: Vec<(usize, &String, &Value)> =
                map.iter().enumerate().map(|(i, (k, v))| (i, k, v)).collect();
            kept.sort_by_key(|(_, key, _)| (key.len(), key.as_bytes()));
            let mut differs = kept.iter().enumerate().any(|(place, (came, ..))| place != *came);
            if differs {
                let mut places = vec![0; kept.len()];
                kept.iter().enumerate().for_each(|(place, (came, ..))| places[*came] = place);
                order.extend(places.into_iter().filter_map(sign));
            } else if kept.len() > 1 {
                order.push(SAME);
            }
            for (_, _, inner) in kept {
                differs |= note(inner, order);
            }
            differs
        }
        _ => false,
    }
}

fn sign(place: usize) -> Option<char> {
    char::from_u32(FIRST + u32::try_from(place).ok()?)
}

/// A value as it came, from how it is kept. What does not fit stays as it is kept.
pub(crate) fn restored(kept: Value, order: Option<&str>) -> Value {
    match order.filter(|o| !o.is_empty()) {
        None => kept,
        Some(order) => put_back(kept, &mut order.chars()),
    }
}

fn put_back(value: Value, order: &mut Chars<'_>) -> Value {
    match value {
        Value::Array(items) => {
            Value::Array(items.into_iter().map(|item| put_back(item, order)).collect())
        }
        Value::Object(map) => {
            let places = if map.len() > 1 { places(map.len(), order) } else { None };
            let mut kept: Vec<Option<(String, Value)>> =
                map.into_iter().map(|(key, inner)| Some((key, put_back(inner, order)))).collect();
            let came = places.unwrap_or_else(|| (0..kept.len()).collect());
            let mut map = Map::with_capacity(kept.len());
            for place in came.into_iter().chain(0..kept.len()) {
                map.extend(kept.get_mut(place).and_then(Option::take));
            }
            Value::Object(map)
        }
        other => other,
    }
}

/// Which of so many keys comes first, second and so on; none if they came as they are kept.
fn places(count: usize, order: &mut Chars<'_>) -> Option<Vec<usize>> {
    let first = order.next().filter(|c| *c != SAME)?;
    let signs = std::iter::once(first).chain(order.take(count - 1));
    Some(signs.filter_map(|c| usize::try_from(u32::from(c).checked_sub(FIRST)?).ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    /// A value as the database gives it back.
    fn as_stored(value: &Value) -> Value {
        match value {
            Value::Array(items) => items.iter().map(as_stored).collect(),
            Value::Object(map) => {
                let mut fields: Vec<_> =
                    map.iter().map(|(k, v)| (k.clone(), as_stored(v))).collect();
                fields.sort_by_key(|(key, _)| (key.len(), key.clone().into_bytes()));
                Value::Object(fields.into_iter().collect())
            }
            other => other.clone(),
        }
    }

    fn values() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<i32>().prop_map(Value::from),
            "[a-z]{0,4}".prop_map(Value::from)
        ];
        leaf.prop_recursive(4, 60, 6, |inner| {
            let fields = proptest::collection::vec(("[a-zé]{1,4}", inner.clone()), 0..6);
            prop_oneof![
                proptest::collection::vec(inner, 0..4).prop_map(Value::from),
                fields.prop_map(|fields| Value::Object(fields.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn a_payload_comes_back_as_it_came(value in values()) {
            let back = restored(as_stored(&value), Some(&order_of(&value)));
            prop_assert_eq!(back.to_string(), value.to_string());
        }

        #[test]
        fn whatever_stands_beside_it_nothing_of_a_payload_is_lost(value in values(),
            order in "[\u{1} -~é]{0,12}") {
            prop_assert_eq!(restored(value.clone(), Some(&order)), value);
        }
    }

    #[test]
    fn what_came_as_it_is_kept_takes_no_room_and_what_is_endless_neither() {
        assert_eq!(order_of(&json!({ "a": 1, "b": { "c": 2, "dd": 3 } })), "");
        assert_eq!(order_of(&json!([1, "x", null])), "");
        assert_eq!(order_of(&json!({ "b": 1, "a": 2 })).chars().count(), 2);
        let endless: Value = (0..3_000).map(|_| json!({ "b": 1, "a": 2 })).collect();
        assert_eq!(order_of(&endless), "");
    }
}
