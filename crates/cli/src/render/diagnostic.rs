//! Failures, with the place in the text they are about.

use super::screen::{Screen, Style};
use super::text::clean;
use annotate_snippets::{
    AnnotationKind, Element, Group, Level, Patch as SnippetPatch, Renderer, Snippet,
};
use serde::Serialize;
use std::sync::Arc;
use tipstaff_app::Failure;
use tipstaff_app::Written;
use tipstaff_core::policy::{Diagnostic, Label, Severity, Source};

/// More mistakes than these are counted, not shown: the first ones explain the rest.
const MOST_SHOWN: usize = 20;

/// A failure as text.
pub fn failure(failure: &Failure, screen: &Screen) -> String {
    match failure {
        Failure::Input { sources, problems } | Failure::Typed { sources, problems } => {
            let shown = problems.iter().take(MOST_SHOWN);
            let mut text: String =
                shown.map(|problem| diagnostic(sources, problem, screen)).collect();
            if problems.len() > 1 {
                let whole = match &sources[..] {
                    [only] => clean(&only.name),
                    files => format!("{} files", files.len()),
                };
                let count = problems.len();
                text.push_str(&format!("{count} mistakes in {whole}; nothing was done\n"));
            }
            text
        }
        Failure::Refusal { sources, problem } => diagnostic(sources, problem, screen),
        Failure::Usage { message, help }
        | Failure::Stopped { message, help }
        | Failure::System { message, help } => {
            let mut text = format!("{} {}\n", screen.paint(Style::Wrong, "error:"), clean(message));
            for line in help {
                text.push_str(&format!(
                    "  {} {}\n",
                    screen.paint(Style::Strong, "help:"),
                    clean(line)
                ));
            }
            text
        }
    }
}

/// One diagnostic as text, with the lines of the sources that it is about.
pub fn diagnostic(sources: &[Source], problem: &Diagnostic, screen: &Screen) -> String {
    let level = match problem.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let helps = problem.help.iter().map(|text| Element::from(Level::HELP.message(clean(text))));
    let title = level.primary_title(clean(&problem.message)).id(problem.code);
    let file = problem.primary.as_ref().map(|label| &label.origin.file);
    let nothing = Source::new("", "");
    let source_of =
        |file: &Arc<str>| sources.iter().find(|it| it.name == *file).unwrap_or(&nothing);
    let source = file.map_or(&nothing, source_of);
    // Shown text must be harmless, but the marks must stay where they are: characters are
    // replaced one by one, byte for byte.
    let text = harmless(&source.text);
    let (here, elsewhere): (Vec<&Label>, Vec<&Label>) =
        problem.context.iter().partition(|label| label.origin.file == source.name);
    let elsewhere: Vec<(&Label, &Source, String)> = elsewhere
        .into_iter()
        .map(|label| (label, source_of(&label.origin.file)))
        .map(|(label, source)| (label, source, harmless(&source.text)))
        .collect();
    let mut groups = Vec::new();
    match &problem.primary {
        Some(primary) => {
            let context = |source: &Source, label: &Label| {
                AnnotationKind::Context
                    .span(visible(&source.text, &label.origin.span))
                    .label(clean(&label.text))
            };
            let snippet = Snippet::source(text.as_str())
                .path(clean(&source.name))
                .annotation(
                    AnnotationKind::Primary
                        .span(visible(&source.text, &primary.origin.span))
                        .label(clean(&primary.text)),
                )
                .annotations(here.iter().map(|label| context(source, label)));
            let others = elsewhere.iter().map(|(label, source, text)| {
                let snippet = Snippet::source(text.as_str()).path(clean(&source.name));
                Element::from(snippet.annotation(context(source, label)))
            });
            groups.push(title.element(snippet).elements(others).elements(helps));
        }
        None => groups.push(Group::with_title(title).elements(helps)),
    }
    if !problem.patches.is_empty() {
        let patches = problem
            .patches
            .iter()
            .map(|patch| SnippetPatch::new(patch.origin.span.clone(), clean(&patch.replacement)));
        let snippet = Snippet::source(text.as_str()).path(clean(&source.name)).patches(patches);
        groups.push(Level::HELP.secondary_title("the likely mend").element(snippet));
    }
    let renderer = if screen.is_colored() { styled() } else { Renderer::plain() };
    let mut text = renderer.term_width(screen.width).render(&groups);
    text.push_str("\n\n");
    text
}

/// The colours of everything else here, which can be read on light and dark screens.
fn styled() -> Renderer {
    Renderer::styled()
        .error(Style::Wrong.ansi())
        .warning(Style::Mixed.ansi().bold())
        .note(Style::Strong.ansi())
        .help(Style::Strong.ansi())
        .line_num(Style::Faint.ansi())
        .context(Style::Closed.ansi())
        .addition(Style::Good.ansi())
        .removal(Style::Wrong.ansi())
}

/// A mark must cover something, on a character's boundary.
fn visible(text: &str, range: &std::ops::Range<usize>) -> std::ops::Range<usize> {
    let mut start = range.start.min(text.len());
    while !text.is_char_boundary(start) {
        start -= 1;
    }
    let mut end = range.end.clamp(start, text.len());
    while !text.is_char_boundary(end) {
        end += 1;
    }
    start..end
}

/// The text with every character that could disturb a terminal replaced by as many question
/// marks as it has bytes.
fn harmless(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for char in text.chars() {
        let mut bytes = [0; 4];
        let piece: &str = char.encode_utf8(&mut bytes);
        if matches!(char, '\n' | '\t' | '\r') || clean(piece) == piece {
            out.push(char);
        } else {
            out.extend(std::iter::repeat_n('?', char.len_utf8()));
        }
    }
    out
}

/// A failure for programs.
#[derive(Debug, Serialize)]
pub struct FailureWords {
    errors: Vec<ErrorWords>,
}

#[derive(Debug, Serialize)]
struct ErrorWords {
    code: &'static str,
    message: String,
    expected: Option<String>,
    origin: Option<Written>,
    help: Vec<String>,
}

/// A failure for programs.
pub fn failure_words(failure: &Failure) -> FailureWords {
    let of = |problem: &Diagnostic| ErrorWords {
        code: problem.code,
        message: problem.message.clone(),
        expected: problem.primary.as_ref().map(|it| it.text.clone()).filter(|it| !it.is_empty()),
        origin: problem.primary.as_ref().map(|it| (&it.origin).into()),
        help: problem.help.clone(),
    };
    let plain = |code, message: &String, help: &Vec<String>| ErrorWords {
        code,
        message: message.clone(),
        expected: None,
        origin: None,
        help: help.clone(),
    };
    FailureWords {
        errors: match failure {
            Failure::Input { problems, .. } | Failure::Typed { problems, .. } => {
                problems.iter().map(of).collect()
            }
            Failure::Refusal { problem, .. } => vec![of(problem)],
            Failure::Usage { message, help } => vec![plain("usage", message, help)],
            Failure::Stopped { message, help } => vec![plain("stopped", message, help)],
            Failure::System { message, help } => vec![plain("system", message, help)],
        },
    }
}

#[cfg(test)]
mod tests {
    use super::failure;
    use crate::render::Screen;
    use tipstaff_app::{Failure, loaded};
    use tipstaff_core::plan::RuleId;
    use tipstaff_core::policy::Source;
    use tipstaff_linux::LinuxError;

    const MENDED: &str = include_str!("../../../../demo/mended.toml");

    fn refusal(rule: RuleId) -> String {
        let source = Source::new("demo/mended.toml", MENDED);
        let loaded = loaded("demo", vec![source], Some("sluice")).expect("a policy");
        let error = LinuxError::RuleRefused { rule, reason: "Value too large".into() };
        failure(&Failure::in_kernel(error, &loaded.sources, &loaded.plan), &Screen::of_width(80))
    }

    #[test]
    fn a_refusal_by_the_kernel_is_shown_where_it_stems_from() {
        insta::assert_snapshot!(refusal(RuleId::rule("catalogue")), @r#"
        error[kernel-refused]: the kernel refuses `catalogue`: Value too large
          --> demo/mended.toml:45:8
           |
        45 | name = "catalogue"
           |        ^^^^^^^^^^^ this is what it stems from
           |
           = help: nothing was changed
        "#);
        // What the language supplies has no line to show.
        insta::assert_snapshot!(refusal(RuleId::baseline("replies")), @r"
        error[kernel-refused]: the kernel refuses `baseline/replies`: Value too large
         |
         = help: nothing was changed
        ");
    }
}
