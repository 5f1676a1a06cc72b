//! Tables of a parsed file, checked against the schema while their values are taken out.

use super::{Diagnostic, KeySpec, Origin, Shape, Source, TableSpec, Use, Used, nearest};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

/// The file being read, and what is wrong with it so far.
pub(super) struct Reader<'a> {
    pub source: &'a Source,
    pub problems: Vec<Diagnostic>,
    /// Names that have been used so far.
    pub uses: Vec<Use>,
}

impl<'a> Reader<'a> {
    pub(super) fn new(source: &'a Source) -> Self {
        Self { source, problems: Vec::new(), uses: Vec::new() }
    }

    /// Notes that a name is used.
    pub(super) fn uses(&mut self, what: Used, term: &Text) {
        let origin = self.origin(term.inner());
        self.uses.push(Use { what, name: term.value.clone(), origin });
    }

    pub(super) fn origin(&self, span: Range<usize>) -> Origin {
        self.source.origin(span)
    }

    pub(super) fn report(&mut self, mut problem: Diagnostic) {
        // A value with escapes can only be pointed at as a whole, quotes included; what was meant
        // for a part of it would not fit there.
        problem.patches.retain(|patch| {
            let old = self.source.text.get(patch.origin.span.clone()).unwrap_or_default();
            !old.starts_with(['"', '\'']) || patch.replacement.starts_with(['"', '['])
        });
        self.problems.push(problem);
    }
}

/// A text value with its place.
#[derive(Clone)]
pub(super) struct Text {
    pub value: String,
    pub span: Range<usize>,
    /// Where the value begins, if it stands in the source letter for letter.
    verbatim: Option<usize>,
}

impl Text {
    /// A value in quotes: verbatim if there is one quote at each end and nothing is escaped.
    fn quoted(source: &Source, value: &str, span: Range<usize>) -> Self {
        let inner = (span.start + 1)..span.end.saturating_sub(1);
        let verbatim = (source.text.get(inner) == Some(value)).then_some(span.start + 1);
        Self { value: value.to_owned(), span, verbatim }
    }

    /// A name that somebody chose.
    fn key(key: &Spanned<DeString<'_>>) -> Self {
        Self { value: key.get_ref().to_string(), span: key.span(), verbatim: None }
    }

    /// A source that is one value, without quotes.
    pub(super) fn whole(source: &Source) -> Self {
        let value = source.text.to_string();
        Self { span: 0..value.len(), value, verbatim: Some(0) }
    }

    /// The text without its first `bytes` bytes.
    pub(super) fn after(&self, bytes: usize) -> Self {
        self.piece(bytes..self.value.len())
    }

    /// Some bytes of the text.
    pub(super) fn piece(&self, piece: Range<usize>) -> Self {
        Self {
            value: self.value.get(piece.clone()).unwrap_or_default().to_owned(),
            span: self.span.clone(),
            verbatim: self.verbatim.map(|start| start + piece.start),
        }
    }

    /// The place of some bytes of the value, as exactly as the source allows.
    pub(super) fn part(&self, part: Range<usize>) -> Range<usize> {
        match self.verbatim {
            Some(start) => start + part.start..start + part.end,
            None => self.span.clone(),
        }
    }

    /// The place of the whole value, without its quotes where that is possible.
    pub(super) fn inner(&self) -> Range<usize> {
        self.part(0..self.value.len())
    }
}

/// One table whose keys and shapes have been checked.
pub(super) struct Table<'t, 'i> {
    pub spec: &'static TableSpec,
    pub span: Range<usize>,
    entries: Vec<(&'static KeySpec, Range<usize>, &'t Spanned<DeValue<'i>>)>,
}

impl<'t, 'i> Table<'t, 'i> {
    /// Checks every key of `table` against the kind's list. Unknown keys, values of another
    /// shape and missing keys are reported; what is right can be taken out.
    pub(super) fn check(
        reader: &mut Reader<'_>,
        kind: &str,
        table: &'t DeTable<'i>,
        span: Range<usize>,
    ) -> Self {
        let spec = TableSpec::of(kind);
        let mut entries = Vec::new();
        for (key, value) in table {
            match spec.key(key.get_ref()) {
                None => reader.report(unknown_key(reader, spec, key.get_ref(), key.span())),
                Some(known) if fits(known.shape, value.get_ref()) => {
                    entries.push((known, key.span(), value));
                }
                Some(known) => {
                    let problem = wrong_shape(reader, known, value);
                    reader.report(problem);
                    // Present, if unusable: it must not be reported as missing too.
                    entries.push((known, key.span(), value));
                }
            }
        }
        let checked = Self { spec, span, entries };
        for needed in spec.keys.iter().filter(|key| key.required) {
            if !checked.has(needed.name) {
                let origin = reader.origin(checked.span.clone());
                reader.report(
                    Diagnostic::error(
                        "missing-key",
                        format!("`{}` is missing", needed.name),
                        origin,
                    )
                    .expected(format!("needs `{} = {}`", needed.name, needed.example)),
                );
            }
        }
        checked
    }

    /// Whether the key is there, usable or not.
    pub(super) fn has(&self, name: &str) -> bool {
        self.entry(name).is_some()
    }

    /// The place of the key itself.
    pub(crate) fn key_span(&self, name: &str) -> Option<Range<usize>> {
        self.entry(name).map(|entry| entry.1.clone())
    }

    /// The place of the key's value.
    pub(crate) fn value_span(&self, name: &str) -> Option<Range<usize>> {
        self.entry(name).map(|entry| entry.2.span())
    }

    fn entry(
        &self,
        name: &str,
    ) -> Option<&(&'static KeySpec, Range<usize>, &'t Spanned<DeValue<'i>>)> {
        self.entries.iter().find(|entry| entry.0.name == name)
    }

    fn value(&self, name: &str) -> Option<&'t Spanned<DeValue<'i>>> {
        self.entry(name).map(|entry| entry.2)
    }

    /// A text, if the key is there and holds one.
    pub(super) fn text(&self, reader: &Reader<'_>, name: &str) -> Option<Text> {
        let value = self.value(name)?;
        let text = value.get_ref().as_str()?;
        Some(Text::quoted(reader.source, text, value.span()))
    }

    /// A text without its place.
    pub(crate) fn plain_text(&self, name: &str) -> Option<&str> {
        self.value(name)?.get_ref().as_str()
    }

    /// A whole number as its digits.
    pub(super) fn number(&self, name: &str) -> Option<String> {
        self.value(name)?.get_ref().as_integer().map(ToString::to_string)
    }

    /// The value of a key that is `true` or `false`.
    pub(super) fn switch(&self, name: &str) -> Option<bool> {
        self.value(name)?.get_ref().as_bool()
    }

    /// A time as it is written, in or without quotes.
    pub(super) fn time(&self, reader: &Reader<'_>, name: &str) -> Option<Text> {
        let value = self.value(name)?;
        match value.get_ref() {
            DeValue::Datetime(time) => {
                let value_text = time.to_string();
                Some(Text { value: value_text, span: value.span(), verbatim: None })
            }
            _ => self.text(reader, name),
        }
    }

    /// A list of texts; items that are not texts have been reported and are left out.
    pub(super) fn list(&self, reader: &Reader<'_>, name: &str) -> Option<Vec<Text>> {
        let entry = self.entry(name)?;
        if entry.0.shape == Shape::TextOrList
            && let Some(text) = self.text(reader, name)
        {
            return Some(vec![text]);
        }
        let items = entry.2.get_ref().as_array()?;
        Some(
            items
                .iter()
                .filter_map(|item| {
                    let text = item.get_ref().as_str()?;
                    Some(Text::quoted(reader.source, text, item.span()))
                })
                .collect(),
        )
    }

    /// The names and texts of a table of texts.
    pub(super) fn words(&self, reader: &Reader<'_>, name: &str) -> Vec<(Text, Text)> {
        let Some(words) = self.value(name).and_then(|it| it.get_ref().as_table()) else {
            return Vec::new();
        };
        let pair = |(key, value): (&Spanned<DeString<'_>>, &Spanned<DeValue<'_>>)| {
            let text = Text::quoted(reader.source, value.get_ref().as_str()?, value.span());
            Some((Text::key(key), text))
        };
        words.iter().filter_map(pair).collect()
    }

    /// Whether the key holds a table without any key.
    pub(super) fn is_empty_table(&self, name: &str) -> bool {
        self.value(name).and_then(|it| it.get_ref().as_table()).is_some_and(DeTable::is_empty)
    }

    /// A table inside this one.
    pub(super) fn table(&self, reader: &mut Reader<'_>, name: &str) -> Option<Table<'t, 'i>> {
        let entry = self.entry(name)?;
        let Shape::Table(kind) = entry.0.shape else {
            return None;
        };
        let inner = entry.2.get_ref().as_table()?;
        Some(Table::check(reader, kind, inner, entry.2.span()))
    }

    /// Tables by name, each with the place of its name.
    pub(super) fn named(&self, reader: &mut Reader<'_>, name: &str) -> Vec<(Text, Table<'t, 'i>)> {
        let Some(entry) = self.entry(name) else {
            return Vec::new();
        };
        let (Shape::Named(kind), Some(tables)) = (entry.0.shape, entry.2.get_ref().as_table())
        else {
            return Vec::new();
        };
        let mut found = Vec::new();
        for (key, value) in tables {
            let text = Text::key(key);
            match value.get_ref().as_table() {
                Some(inner) => {
                    let span = if value.span().is_empty() { key.span() } else { value.span() };
                    found.push((text, Table::check(reader, kind, inner, span)));
                }
                None => {
                    let origin = reader.origin(value.span());
                    reader.report(
                        Diagnostic::error(
                            "wrong-shape",
                            format!(
                                "`{}` should be a table, but is {}",
                                key.get_ref(),
                                describe(value.get_ref())
                            ),
                            origin,
                        )
                        .expected(format!("expected [{name}.{}] and its keys", key.get_ref())),
                    );
                }
            }
        }
        found
    }

    /// The tables of a list.
    pub(super) fn tables(&self, reader: &mut Reader<'_>, name: &str) -> Vec<Table<'t, 'i>> {
        let Some(entry) = self.entry(name) else {
            return Vec::new();
        };
        let (Shape::Tables(kind), Some(items)) = (entry.0.shape, entry.2.get_ref().as_array())
        else {
            return Vec::new();
        };
        items
            .iter()
            .filter_map(|item| {
                let inner = item.get_ref().as_table()?;
                Some(Table::check(reader, kind, inner, item.span()))
            })
            .collect()
    }
}

fn fits(shape: Shape, value: &DeValue<'_>) -> bool {
    match shape {
        Shape::Number => value.is_integer(),
        Shape::Text => value.is_str(),
        Shape::Switch => value.is_bool(),
        Shape::List => {
            value.as_array().is_some_and(|items| items.iter().all(|item| item.get_ref().is_str()))
        }
        Shape::TextOrList => value.is_str() || fits(Shape::List, value),
        Shape::Cap => value.is_bool() || value.is_str(),
        Shape::Time => value.is_datetime() || value.is_str(),
        Shape::Words => {
            value.as_table().is_some_and(|table| table.values().all(|it| it.get_ref().is_str()))
        }
        Shape::ListOrWords => fits(Shape::List, value) || fits(Shape::Words, value),
        Shape::Table(_) | Shape::Named(_) => value.is_table(),
        Shape::Tables(_) => {
            value.as_array().is_some_and(|items| items.iter().all(|item| item.get_ref().is_table()))
        }
    }
}

fn describe(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "a truth value",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn wrong_shape(
    reader: &Reader<'_>,
    key: &'static KeySpec,
    value: &Spanned<DeValue<'_>>,
) -> Diagnostic {
    // In a list, the item that does not fit is the place to point at.
    let misfit = match (key.shape, value.get_ref().as_array()) {
        (Shape::List | Shape::TextOrList | Shape::ListOrWords, Some(items)) => {
            items.iter().find(|item| !item.get_ref().is_str())
        }
        (Shape::Tables(_), Some(items)) => items.iter().find(|item| !item.get_ref().is_table()),
        (Shape::Words | Shape::ListOrWords, None) => {
            let words = value.get_ref().as_table();
            words.and_then(|it| it.values().find(|value| !value.get_ref().is_str()))
        }
        _ => None,
    };
    let at = misfit.unwrap_or(value);
    let inside = if misfit.is_some() { "an item of " } else { "" };
    let problem = Diagnostic::error(
        "wrong-shape",
        format!("{inside}`{}` is {}", key.name, describe(at.get_ref())),
        reader.origin(at.span()),
    );
    let written = reader.source.text.get(at.span()).unwrap_or_default();
    let is_item = misfit.is_some() && value.get_ref().is_array();
    match (key.shape, at.get_ref()) {
        (Shape::List | Shape::ListOrWords, DeValue::String(_)) if misfit.is_none() => problem
            .expected("expected a list of texts in quotes")
            .replace_with(format!("[{written}]")),
        (Shape::List | Shape::ListOrWords, DeValue::Integer(number)) if is_item => problem
            .expected("expected a text in quotes")
            .help(format!("a port is written with its protocol, such as \"{number}/tcp\"")),
        (Shape::Words | Shape::TextOrList | Shape::ListOrWords, _) if misfit.is_some() => {
            problem.expected("expected a text in quotes")
        }
        (Shape::Text, DeValue::Boolean(_) | DeValue::Integer(_)) => {
            problem.expected(format!("expected a text in quotes, such as {}", key.example))
        }
        (Shape::Tables(_), DeValue::Table(_)) if written.starts_with('[') => problem
            .expected("there can be several, so the heading has two brackets")
            .replace_with(format!("[{written}]")),
        _ => problem.expected(format!("expected {}", key.shape.describe())),
    }
}

fn unknown_key(
    reader: &Reader<'_>,
    spec: &'static TableSpec,
    found: &str,
    span: Range<usize>,
) -> Diagnostic {
    let place = if spec.kind.is_empty() {
        "the file".to_owned()
    } else {
        let article = if spec.kind.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} `{}` section", spec.kind)
    };
    let problem = Diagnostic::error(
        "unknown-key",
        format!("{place} has no key `{found}`"),
        reader.origin(span),
    );
    if ["via", "out-via"].contains(&found) && spec.key("ingress").is_some() {
        return problem.expected(
            "`ingress` names the interfaces by which packets come in, `egress` those by which they go out",
        );
    }
    let names: Vec<&str> = spec.keys.iter().map(|key| key.name).collect();
    match nearest(found, names.iter().copied()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem.expected(format!("expected one of: {}", names.join(", "))),
    }
}
