//! The policy language's page, from the same text that people read in the project.

use pulldown_cmark::{Event, HeadingLevel, Options, Parser, Tag, TagEnd};

const LANGUAGE: &str = include_str!("../../../docs/LANGUAGE.md");

/// `tipstaff-policy(5)`.
pub fn page() -> String {
    let mut page = Page::default();
    // The first line has a table read by the preprocessor for tables.
    page.text.push_str("'\\\" t\n.TH TIPSTAFF\\-POLICY 5 \"\" \"tipstaff ");
    page.text.push_str(env!("CARGO_PKG_VERSION"));
    page.text.push_str("\" Tipstaff\n.SH NAME\ntipstaff\\-policy \\- the language of policies\n");
    // Narrow columns are better left ragged, and names are not parted.
    page.text.push_str(".ad l\n.nh\n.SH DESCRIPTION\n");
    for event in Parser::new_ext(LANGUAGE, Options::ENABLE_TABLES) {
        page.take(event);
    }
    page.text.push_str(".SH \"SEE ALSO\"\n\\fBtipstaff\\fR(8)\n");
    page.text
}

#[derive(Default)]
struct Page {
    text: String,
    /// The heading that stands over the whole document has the page's own in its place.
    in_title: bool,
    in_code: bool,
    in_table: bool,
    columns: usize,
    cells: usize,
}

impl Page {
    fn take(&mut self, event: Event) {
        match event {
            Event::Start(tag) => self.begin(&tag),
            Event::End(tag) => self.end(tag),
            Event::Text(_) | Event::Code(_) if self.in_title => {}
            Event::Text(text) => self.words(&text),
            Event::Code(text) => {
                self.text.push_str("\\fB");
                self.words(&text);
                self.text.push_str("\\fR");
            }
            Event::SoftBreak if self.in_table => self.text.push(' '),
            Event::SoftBreak => self.text.push('\n'),
            Event::HardBreak => self.text.push_str("\n.br\n"),
            // Marks for the project's own scripts.
            _ => {}
        }
    }

    fn begin(&mut self, tag: &Tag) {
        match tag {
            Tag::Heading { level: HeadingLevel::H1, .. } => self.in_title = true,
            Tag::Heading { level: HeadingLevel::H2, .. } => self.line(".SH \""),
            Tag::Heading { .. } => self.line(".SS \""),
            Tag::Paragraph => self.line(".PP\n"),
            Tag::Item => self.line(".IP \\(bu 2\n"),
            Tag::Strong | Tag::Link { .. } => self.text.push_str("\\fB"),
            Tag::Emphasis => self.text.push_str("\\fI"),
            Tag::CodeBlock(_) => {
                self.in_code = true;
                self.line(".PP\n.nf\n.RS 4\n");
            }
            Tag::Table(columns) => {
                (self.in_table, self.columns) = (true, columns.len());
                let narrow = "l ".repeat(columns.len().saturating_sub(1));
                self.line(&format!(".TS\nallbox;\n{narrow}lx.\n"));
            }
            Tag::TableHead | Tag::TableRow => self.cells = 0,
            Tag::TableCell => self.text.push_str("T{\n"),
            _ => {}
        }
    }

    fn end(&mut self, tag: TagEnd) {
        match tag {
            TagEnd::Heading(HeadingLevel::H1) => self.in_title = false,
            TagEnd::Heading(_) => self.text.push_str("\"\n"),
            TagEnd::Paragraph | TagEnd::Item => self.line(""),
            TagEnd::Strong | TagEnd::Emphasis | TagEnd::Link => self.text.push_str("\\fR"),
            TagEnd::CodeBlock => {
                self.in_code = false;
                self.line(".RE\n.fi\n");
            }
            TagEnd::TableCell => {
                self.cells += 1;
                let last = self.cells == self.columns;
                self.text.push_str(if last { "\nT}\n" } else { "\nT}\t" });
            }
            TagEnd::Table => {
                self.in_table = false;
                self.line(".TE\n.sp\n");
            }
            _ => {}
        }
    }

    /// What must stand at the beginning of a line.
    fn line(&mut self, request: &str) {
        if !self.text.ends_with('\n') {
            self.text.push('\n');
        }
        self.text.push_str(request);
    }

    fn words(&mut self, words: &str) {
        for (at, line) in words.split('\n').enumerate() {
            if at > 0 {
                self.text.push('\n');
            }
            // A line that begins so would be a request.
            if self.text.ends_with('\n') && (line.starts_with('.') || line.starts_with('\'')) {
                self.text.push_str("\\&");
            }
            for letter in line.chars() {
                match letter {
                    '\\' => self.text.push_str("\\e"),
                    '-' => self.text.push_str("\\-"),
                    '"' => self.text.push_str("\\(dq"),
                    '\'' => self.text.push_str("\\(aq"),
                    '`' => self.text.push_str("\\(ga"),
                    '^' => self.text.push_str("\\(ha"),
                    '~' => self.text.push_str("\\(ti"),
                    other => self.text.push(other),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_heading_example_and_table_of_the_text_is_on_the_page() {
        let page = page();
        let headings = LANGUAGE.lines().filter(|it| it.starts_with("## ")).count();
        assert!(headings > 5, "{headings} headings");
        let sections = page.lines().filter(|it| it.starts_with(".SH ")).count();
        // Its name, its description, and where to look further.
        assert_eq!(sections, headings + 3);
        let fences = LANGUAGE.lines().filter(|it| it.starts_with("```")).count();
        assert_eq!(page.matches(".nf\n").count() * 2, fences);
        let tables = LANGUAGE.lines().filter(|it| it.starts_with("|---")).count();
        assert_eq!(page.matches(".TS\n").count(), tables);
        assert!(page.contains("\\fB30000\\-32000/udp\\fR"));
    }

    #[test]
    fn words_do_not_become_requests() {
        let mut page = Page { text: "\n".into(), ..Page::default() };
        page.words(".SH a\\b\n'c - d");
        assert_eq!(page.text, "\n\\&.SH a\\eb\n\\&\\(aqc \\- d");
    }
}
