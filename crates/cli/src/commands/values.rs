//! Options as values of a policy's keys.

use tipstaff_core::policy::edit::{Assignment, Value};

/// A text.
pub fn text(value: &str) -> Value {
    Value::Text(value.to_owned())
}

/// A list, unless none was given.
pub fn list_of(key: &'static str, values: &[String]) -> Option<Assignment> {
    (!values.is_empty()).then(|| (key, Some(Value::List(values.to_vec()))))
}

/// A text, if one was given.
pub fn text_of(key: &'static str, value: Option<&String>) -> Option<Assignment> {
    value.map(|value| (key, Some(text(value))))
}
