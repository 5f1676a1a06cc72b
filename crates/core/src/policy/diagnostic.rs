//! What is wrong with a policy, as plain data. Wording is here; drawing is not.

use super::Origin;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Nothing is wrong, but it is worth knowing.
    Note,
    /// It can be used, and is probably not meant.
    Warning,
    /// It cannot be used as it stands.
    Error,
}

/// A place in a source, with a remark to stand beside it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The place that is pointed at.
    pub origin: Origin,
    /// What to say there.
    pub text: String,
}

/// A change of the text that would mend the matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Patch {
    /// The part that is to be replaced.
    pub origin: Origin,
    /// What to put there.
    pub replacement: String,
}

/// One thing that is wrong, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// A short stable name of the kind of trouble, such as `unknown-key`.
    pub code: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// One sentence: what was found.
    pub message: String,
    /// The place it is about, with what was expected there; `None` where no source is
    /// concerned, such as an empty file.
    pub primary: Option<Label>,
    /// Other places that matter.
    pub context: Vec<Label>,
    /// Ways out, one sentence each.
    pub help: Vec<String>,
    /// Changes that would probably mend it.
    pub patches: Vec<Patch>,
}

impl Diagnostic {
    /// An error at a place.
    #[must_use]
    pub fn error(code: &'static str, message: impl Into<String>, origin: Origin) -> Self {
        Self {
            code,
            severity: Severity::Error,
            message: message.into(),
            primary: Some(Label { origin, text: String::new() }),
            context: Vec::new(),
            help: Vec::new(),
            patches: Vec::new(),
        }
    }

    /// An error that has no place in a source.
    #[must_use]
    pub fn general(code: &'static str, message: impl Into<String>) -> Self {
        Self {
            code,
            severity: Severity::Error,
            message: message.into(),
            primary: None,
            context: Vec::new(),
            help: Vec::new(),
            patches: Vec::new(),
        }
    }

    /// Adds what was expected at the place.
    #[must_use]
    pub fn expected(mut self, text: impl Into<String>) -> Self {
        if let Some(primary) = &mut self.primary {
            primary.text = text.into();
        }
        self
    }

    /// Adds another place that has to do with it.
    #[must_use]
    pub fn context(mut self, origin: Origin, text: impl Into<String>) -> Self {
        self.context.push(Label { origin, text: text.into() });
        self
    }

    /// Adds a way out.
    #[must_use]
    pub fn help(mut self, text: impl Into<String>) -> Self {
        self.help.push(text.into());
        self
    }

    /// Adds the likely mend: new text for the place itself.
    #[must_use]
    pub(crate) fn replace_with(mut self, replacement: impl Into<String>) -> Self {
        if let Some(primary) = &self.primary {
            let origin = primary.origin.clone();
            self.patches.push(Patch { origin, replacement: replacement.into() });
        }
        self
    }

    /// Where the diagnostic belongs in the order of the text.
    #[must_use]
    pub fn offset(&self) -> usize {
        self.primary.as_ref().map_or(0, |label| label.origin.span.start)
    }
}
