//! What tables and keys of the policy language are like.

/// What a key's value must look like.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// A whole number without quotes.
    Number,
    /// A text in quotes.
    Text,
    /// One of `true` and `false`.
    Switch,
    /// A list of texts.
    List,
    /// A text, or a list of texts.
    TextOrList,
    /// A truth value, or a rate as a text.
    Cap,
    /// A moment, with date, time and offset.
    Time,
    /// A table of texts under names chosen by the author.
    Words,
    /// A list of texts, or a table that has a text for each of them.
    ListOrWords,
    /// A table with keys of its own, named in [`SCHEMA`].
    Table(&'static str),
    /// A table whose keys are names chosen by the author, each with a table of the given kind.
    Named(&'static str),
    /// A list of tables of the given kind.
    Tables(&'static str),
}

impl Shape {
    /// How the shape is described to people.
    #[must_use]
    pub fn describe(self) -> &'static str {
        match self {
            Self::Number => "a whole number",
            Self::Text => "a text in quotes",
            Self::Switch => "true or false",
            Self::List => "a list of texts in quotes",
            Self::TextOrList => "a text in quotes, or a list of them",
            Self::Cap => "true, false, or a rate in quotes",
            Self::Time => "a time",
            Self::Words => "a table of texts in quotes",
            Self::ListOrWords => "a list of texts in quotes, or a table that describes each",
            Self::Table(_) => "a table",
            Self::Named(_) => "a table for each name",
            Self::Tables(_) => "a list of tables",
        }
    }
}

/// One key of a table.
#[derive(Clone, Copy, Debug)]
pub struct KeySpec {
    /// The key as written.
    pub name: &'static str,
    /// What its value looks like.
    pub shape: Shape,
    /// Whether it may not be left out.
    pub required: bool,
    /// What it means, in one line.
    pub meaning: &'static str,
    /// A value as it could stand in a file; empty for tables.
    pub example: &'static str,
}

/// One kind of table.
#[derive(Clone, Copy, Debug)]
pub struct TableSpec {
    /// Its kind, as [`Shape`] refers to it; the empty name is the file itself.
    pub kind: &'static str,
    /// What it holds, in one line.
    pub meaning: &'static str,
    /// The keys that it can hold.
    pub keys: &'static [KeySpec],
}

impl TableSpec {
    /// The key of that name.
    #[must_use]
    pub fn key(&self, name: &str) -> Option<&'static KeySpec> {
        self.keys.iter().find(|key| key.name == name)
    }
}

pub(super) const fn key(
    name: &'static str,
    shape: Shape,
    meaning: &'static str,
    example: &'static str,
) -> KeySpec {
    KeySpec { name, shape, required: false, meaning, example }
}

/// A part of the baseline that can be switched off.
pub(super) const fn switch(name: &'static str, meaning: &'static str) -> KeySpec {
    key(name, Shape::Switch, meaning, "true")
}

pub(super) const fn required(mut spec: KeySpec) -> KeySpec {
    spec.required = true;
    spec
}

pub(super) const WHY: KeySpec =
    key("why", Shape::Text, "The reason, for readers", "\"The curators' office\"");

pub(super) const ACCEPT: KeySpec = key(
    "accept",
    Shape::Words,
    "Findings of `review` about it that are accepted, each with the reason",
    "{ overlap = \"The partner is exempt\" }",
);
