//! Changes of a policy's text that leave everything else as it is: comments, order, spacing, line
//! ends.
//!
//! The text is never written anew. Each change is a few splices at places that the parser gives,
//! so what is not meant to change cannot.

mod expectations;
mod items;
mod layout;
mod list;
mod named;
mod splice;
mod tables;

pub use expectations::{ListEdit, edit_expectations};
pub use items::ItemEdit;
pub use list::{Place, RuleEdit, edit_rule, edit_rules, rule_lines};
pub use named::{NamedEdit, edit_named};
pub use tables::{Entry, Owner, Target, set_entries};

use super::{Origin, deceives, nearest};
use std::fmt;

/// A value as it is to stand in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A text, written in quotes.
    Text(String),
    /// A list of texts.
    List(Vec<String>),
    /// Texts with what each is for.
    Words(Vec<(String, String)>),
    /// One of `true` and `false`.
    Switch(bool),
}

impl fmt::Display for Value {
    /// As TOML 1.1 writes it.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => out.write_str(&quoted(text)),
            Self::Switch(on) => write!(out, "{on}"),
            Self::Words(words) => {
                let word =
                    |(key, text): &(String, String)| format!("{} = {}", quoted(key), quoted(text));
                let words: Vec<String> = words.iter().map(word).collect();
                write!(out, "{{ {} }}", words.join(", "))
            }
            Self::List(items) => {
                let items: Vec<String> = items.iter().map(|item| quoted(item)).collect();
                write!(out, "[{}]", items.join(", "))
            }
        }
    }
}

/// The text as a TOML string (TOML 1.0, basic string).
#[must_use]
pub fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for char in text.chars() {
        match char {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            char if deceives(char) => out.push_str(&format!("\\U{:08X}", u32::from(char))),
            char => out.push(char),
        }
    }
    out.push('"');
    out
}

/// A key and its new value; `None` takes the key away.
pub type Assignment = (&'static str, Option<Value>);

/// One of the texts of a policy, changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edited {
    /// Which of the sources it is.
    pub source: usize,
    /// The text that the file is to have.
    pub text: String,
}

/// Why a change cannot be made.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum EditError {
    /// There is nothing of that name.
    Unknown {
        /// What was looked for: `rule`, `place`, `host`, ...
        what: &'static str,
        /// The name that nothing has.
        name: String,
        /// The name that was probably meant.
        near: Option<String>,
    },
    /// There is something of that name already.
    Taken {
        /// What sort of thing it is.
        what: &'static str,
        /// The name that is taken.
        name: String,
    },
    /// The rule belongs to a bundle that the host uses, or to a label that it has.
    Elsewhere {
        /// The rule that was to be changed.
        name: String,
        /// `bundle` or `label`.
        what: &'static str,
        /// Its name.
        owner: String,
    },
    /// It is used, and so cannot go or be called otherwise.
    InUse {
        /// What sort of thing it is.
        what: &'static str,
        /// The name that is still used.
        name: String,
        /// Where it is used.
        users: Vec<Origin>,
    },
    /// An item cannot be put into a list, or taken out.
    Item {
        /// The key whose value the list is.
        key: &'static str,
        /// The item.
        item: String,
        /// Why not.
        problem: ItemProblem,
    },
    /// It is written in a form that cannot be changed piece by piece.
    Form {
        /// Where, as a key.
        key: String,
        /// The file that it is written in.
        file: String,
    },
}

/// Why an item cannot be put in or taken out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ItemProblem {
    /// It is there already.
    There,
    /// It is not there; what is.
    NotThere(Vec<String>),
    /// The key is left out, or says whom it does not mean: what is to come in is meant already.
    AllAlready,
    /// The rule does something else with its traffic.
    OtherVerdict(&'static str),
    /// Nothing would be left.
    Last,
}

impl EditError {
    fn unknown<'n>(
        what: &'static str,
        name: &str,
        known: impl IntoIterator<Item = &'n str>,
    ) -> Self {
        Self::Unknown { what, name: name.into(), near: nearest(name, known).map(str::to_owned) }
    }
}

impl fmt::Display for EditError {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown { what, name, near } => {
                write!(out, "there is no {what} `{}`", name.escape_debug())?;
                match near {
                    Some(near) => write!(out, "; did you mean `{near}`?"),
                    None => Ok(()),
                }
            }
            Self::Taken { what, name } => write!(out, "there is a {what} `{name}` already"),
            Self::Elsewhere { name, what, owner } => {
                write!(out, "the rule `{name}` belongs to the {what} `{owner}`")
            }
            Self::InUse { what, name, users } => {
                let shown: Vec<String> = users.iter().take(8).map(ToString::to_string).collect();
                write!(out, "the {what} `{name}` is in use: {}", shown.join(", "))?;
                match users.len() - shown.len() {
                    0 => Ok(()),
                    more => write!(out, " and {more} more"),
                }
            }
            Self::Item { key, item, problem } => {
                let item = item.escape_debug();
                match problem {
                    ItemProblem::There => write!(out, "`{key}` says that about `{item}` already"),
                    ItemProblem::NotThere(there) if there.is_empty() => {
                        write!(out, "`{item}` is not in `{key}`, which is not there")
                    }
                    ItemProblem::NotThere(there) => {
                        let there: Vec<&str> = there.iter().take(8).map(String::as_str).collect();
                        write!(out, "`{item}` is not in `{key}`, which has: {}", there.join(", "))
                    }
                    ItemProblem::AllAlready => {
                        write!(out, "`{item}` is meant already: `{key}` names nobody else")
                    }
                    ItemProblem::OtherVerdict(other) => {
                        write!(out, "the rule has `{other}`, not `{key}`")
                    }
                    ItemProblem::Last => {
                        write!(out, "`{item}` is all that `{key}` has; without it nothing is left")
                    }
                }
            }
            Self::Form { key, file } => {
                write!(out, "`{key}` in {file} is written in one line with others")
            }
        }
    }
}

impl std::error::Error for EditError {}
