//! Whose sockets numbers in marks stand for, and how lists in the kernel say it.

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Whose sockets a number stands for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Whose {
    // The order is that in which they are numbered: programs alone first.
    /// The user, by name or number; `None`: any of whom no rule speaks.
    pub user: Option<String>,
    /// The program, by its path; `None`: any of which no rule speaks.
    pub program: Option<String>,
}

impl Whose {
    /// All that lists of programs and users tell apart.
    pub(super) fn all(lists: &BTreeSet<Vec<String>>) -> BTreeSet<Self> {
        let names = || lists.iter().flatten().cloned();
        let programs = || names().filter(|it| is_program(it)).map(Some).chain([None]);
        let users = names().filter(|it| !is_program(it)).map(Some).chain([None]);
        let pairs = users
            .flat_map(|user| programs().map(move |program| Self { user: user.clone(), program }));
        pairs.filter(|it| *it != Self::default()).collect()
    }

    /// Whether it is on a list, of programs or of users.
    pub(super) fn is_on(&self, list: &[String]) -> bool {
        [&self.program, &self.user].into_iter().flatten().any(|it| list.contains(it))
    }
}

/// Whether a name in a list is a program's path; users never begin like one.
#[must_use]
pub fn is_program(name: &str) -> bool {
    name.starts_with('/')
}

/// A number on a list, and what it stands for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Numbered {
    /// The number, not yet shifted to its place in the mark.
    pub number: u32,
    /// The path or the user; `None` if it stands for the same as one of the list.
    #[serde(alias = "path")]
    pub name: Option<String>,
    /// Beside a user: the number of the program that the user runs.
    #[serde(default)]
    pub beside: Option<u32>,
}

impl Numbered {
    /// How it is written beside the number in the kernel; `None` if it needs no words.
    pub(super) fn text(&self) -> Option<String> {
        let name = self.name.as_ref()?;
        Some(match self.beside {
            Some(number) => format!("{name} {number}"),
            None => name.clone(),
        })
    }

    /// Reads what [`Numbered::text`] writes.
    pub(super) fn read(number: u32, text: Option<&str>) -> Self {
        let Some(text) = text else { return Self { number, name: None, beside: None } };
        let parts = text.split_once(' ').filter(|_| !is_program(text));
        let parted = parts.and_then(|it| Some((it.0, it.1.parse().ok()?)));
        let (name, beside) = parted.map_or((text, None), |it| (it.0, Some(it.1)));
        Self { number, name: Some(name.into()), beside }
    }
}
