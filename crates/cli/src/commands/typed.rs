//! Mistakes in what was typed are shown there, and not at a line of a file that has no such line.

use std::ffi::OsString;
use tipstaff_app::Failure;
use tipstaff_core::policy::{Diagnostic, Label, Origin, Source};

/// What the line that was typed goes by.
const LINE: &str = "what was typed";

/// The failure with the mistakes of a change that would have been shown at the words that say so.
pub fn at_words(failure: Failure, words: &[OsString]) -> Failure {
    let Failure::Typed { mut sources, problems } = failure else { return failure };
    let line = Line::of(words);
    let source = Source::new(LINE, &line.text);
    let pointed = |problem: Diagnostic| match line.place_of(&problem, &sources) {
        Some(place) => at(problem, &source.origin(place)),
        None => problem,
    };
    let problems = problems.into_iter().map(pointed).collect();
    sources.insert(0, source);
    Failure::Input { sources, problems }
}

/// The problem at another place; what would mend it there, too.
fn at(mut problem: Diagnostic, place: &Origin) -> Diagnostic {
    let was = problem.primary.as_ref().map(|it| it.origin.clone());
    problem.patches.retain_mut(|patch| {
        let same = Some(&patch.origin) == was.as_ref();
        patch.origin = place.clone();
        same
    });
    let text = problem.primary.take().map(|it| it.text).unwrap_or_default();
    problem.primary = Some(Label { origin: place.clone(), text });
    problem
}

/// The line that was typed, and where its words are in it.
struct Line {
    text: String,
    words: Vec<(usize, String)>,
}

impl Line {
    fn of(words: &[OsString]) -> Self {
        let mut line = Self { text: String::from("tipstaff"), words: Vec::new() };
        for word in words.iter().skip(1).map(|it| it.to_string_lossy()) {
            let quoted = word.is_empty() || word.contains([' ', '"', '\'', '\\']);
            line.text.push_str(if quoted { " '" } else { " " });
            line.words.push((line.text.len(), word.to_string()));
            line.text.push_str(&word);
            line.text.push_str(if quoted { "'" } else { "" });
        }
        line
    }

    /// Where the line says what the problem is about.
    fn place_of(&self, problem: &Diagnostic, sources: &[Source]) -> Option<std::ops::Range<usize>> {
        let origin = &problem.primary.as_ref()?.origin;
        let source = sources.iter().find(|it| it.name == origin.file)?;
        let found = source.text.get(origin.span.clone())?.trim_matches(['"', '\'']);
        let whole = self.words.iter().rev().find(|it| it.1 == found).map(|it| it.0);
        let part = || {
            let inside = |it: &(usize, String)| Some(it.0 + it.1.rfind(found)?);
            self.words.iter().rev().find_map(inside)
        };
        let start = whole.or_else(|| (found.len() > 1).then(part).flatten())?;
        (!found.is_empty()).then(|| start..start + found.len())
    }
}
