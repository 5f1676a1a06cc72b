//! Tables that fit the screen.

use super::screen::{Screen, Style};
use super::text::clean;
use std::borrow::Cow;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

const INDENT: usize = 2;
const GAP: usize = 2;
/// On screens of this width and more, long names may be broken to keep a table one: behind a slash or a hyphen.
const BREAKS_NAMES: usize = 72;
/// In a list, this much is left for values, however wide the screen is said to be.
const NARROWEST: usize = 9;

/// One cell: lines of text.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    lines: Vec<Line>,
}

/// A line of a cell.
#[derive(Clone, Debug)]
struct Line {
    text: String,
    style: Style,
    /// In columns.
    width: usize,
}

impl Cell {
    /// A cell of one line.
    pub fn new(text: impl AsRef<str>, style: Style) -> Self {
        Self::default().line(text, style)
    }

    /// A plain cell of one line.
    pub fn plain(text: impl AsRef<str>) -> Self {
        Self::new(text, Style::Plain)
    }

    /// Adds a line.
    pub fn line(mut self, text: impl AsRef<str>, style: Style) -> Self {
        let text = clean(text.as_ref());
        let width = columns(&text);
        self.lines.push(Line { text, style, width });
        self
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.lines.iter().all(|line| line.text.is_empty())
    }

    fn width(&self) -> usize {
        self.lines.iter().map(|line| line.width).max().unwrap_or(0)
    }

    /// The longest part that is not broken; with `soft`, names are.
    fn longest_word(&self, soft: bool) -> usize {
        let words = self.lines.iter().flat_map(|line| line.text.split(' '));
        let parts = words.flat_map(|it| if soft { parts(it) } else { vec![it] });
        parts.map(UnicodeWidthStr::width).max().unwrap_or(0)
    }

    fn wrapped(&self, width: usize) -> Vec<Line> {
        let wrapped = |line: &Line| -> Vec<Line> {
            let parts = wrap(&line.text, width).into_iter();
            parts.map(|text| Line { width: columns(&text), text, style: line.style }).collect()
        };
        self.lines.iter().flat_map(wrapped).collect()
    }

    /// Its lines where none is broken.
    fn as_it_is(&self, width: usize) -> Option<&[Line]> {
        let fits = |line: &Line| line.width <= width && !line.text.starts_with(' ');
        self.lines.iter().all(fits).then_some(&self.lines)
    }
}

/// A table.
#[derive(Clone, Debug)]
pub struct Table {
    titles: Vec<String>,
    /// Columns of numbers, written flush right.
    numbers: Vec<usize>,
    /// Columns that are left out where there is no room for all, the first of them first.
    spare: Vec<usize>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    /// A table with these headings.
    pub fn new(titles: impl IntoIterator<Item = impl AsRef<str>>) -> Self {
        let titles = titles.into_iter().map(|title| clean(title.as_ref())).collect();
        Self { titles, numbers: Vec::new(), spare: Vec::new(), rows: Vec::new() }
    }

    /// Names the columns that hold numbers.
    pub fn numbers(mut self, columns: &[usize]) -> Self {
        self.numbers = columns.to_vec();
        self
    }

    /// Names the columns that can be left out where there is no room: what they say is said elsewhere too.
    pub fn spare(mut self, columns: &[usize]) -> Self {
        self.spare = columns.to_vec();
        self
    }

    /// The table without one of its columns.
    fn without(&self, column: usize) -> Self {
        let moved = |list: &[usize]| -> Vec<usize> {
            let others = list.iter().filter(|it| **it != column);
            others.map(|&it| if it > column { it - 1 } else { it }).collect()
        };
        let rest = |row: &Vec<Cell>| {
            let cells = row.iter().enumerate().filter(|(at, _)| *at != column);
            cells.map(|it| it.1.clone()).collect()
        };
        let mut titles = self.titles.clone();
        titles.remove(column);
        Self {
            titles,
            numbers: moved(&self.numbers),
            spare: moved(&self.spare),
            rows: self.rows.iter().map(rest).collect(),
        }
    }

    /// Adds a row with a cell for each heading.
    pub fn row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.titles.len(), "a cell for each heading");
        self.rows.push(cells);
    }

    /// The table as text. One that cannot fit is written as a list of its rows.
    pub fn render(&self, screen: &Screen) -> String {
        let mut fitting = Cow::Borrowed(self);
        loop {
            let soft = screen.width >= BREAKS_NAMES;
            let widths = fitting.widths(screen.width, false);
            if let Some(widths) =
                widths.or_else(|| soft.then(|| fitting.widths(screen.width, true))?)
            {
                return fitting.as_grid(screen, &widths);
            }
            // A list of rows has room for all.
            let Some(&column) = fitting.spare.first() else { return self.as_list(screen) };
            fitting = Cow::Owned(fitting.without(column));
        }
    }

    /// The columns' widths, the widest ones narrowed until all fit; `None` if they cannot.
    fn widths(&self, room: usize, soft: bool) -> Option<Vec<usize>> {
        let mut widths: Vec<usize> = self.titles.iter().map(|title| title.width()).collect();
        for row in &self.rows {
            for (width, cell) in widths.iter_mut().zip(row) {
                *width = (*width).max(cell.width());
            }
        }
        let room = room.checked_sub(INDENT + GAP * widths.len().saturating_sub(1))?;
        if widths.iter().sum::<usize>() <= room {
            return Some(widths);
        }
        // Lines are broken between words, as long as that is possible: half a name is hard to read.
        let longest_word = |at: usize| {
            let cells = self.rows.iter().filter_map(|row| row.get(at));
            cells.map(|it| it.longest_word(soft)).max().unwrap_or(0).max(self.titles[at].width())
        };
        let floors: Vec<usize> = (0..widths.len()).map(longest_word).collect();
        while widths.iter().sum::<usize>() > room {
            let shrinkable =
                |at: usize, width: usize| width > floors[at] && !self.numbers.contains(&at);
            let (_, widest) = widths
                .iter_mut()
                .enumerate()
                .filter(|(at, width)| shrinkable(*at, **width))
                .max_by_key(|(_, width)| **width)?;
            *widest -= 1;
        }
        Some(widths)
    }

    fn as_grid(&self, screen: &Screen, widths: &[usize]) -> String {
        let titles: Vec<Cell> =
            self.titles.iter().map(|title| Cell::new(title, Style::Faint)).collect();
        let mut text = String::new();
        for row in std::iter::once(&titles).chain(&self.rows) {
            let cells: Vec<Cow<'_, [Line]>> = row
                .iter()
                .zip(widths)
                .map(|(cell, &width)| {
                    let whole = cell.as_it_is(width).map(Cow::Borrowed);
                    whole.unwrap_or_else(|| Cow::Owned(cell.wrapped(width)))
                })
                .collect();
            let height = cells.iter().map(|it| it.len()).max().unwrap_or(0);
            for at in 0..height {
                let begun = text.len();
                let mut owed = INDENT;
                for (column, (cell, &width)) in cells.iter().zip(widths).enumerate() {
                    let line = cell.get(at).filter(|it| !it.text.is_empty());
                    let space = width.saturating_sub(line.map_or(0, |it| it.width));
                    let (before, after) =
                        if self.numbers.contains(&column) { (space, 0) } else { (0, space) };
                    owed += before;
                    if let Some(line) = line {
                        text.extend(std::iter::repeat_n(' ', owed));
                        screen.paint_into(&mut text, line.style, &line.text);
                        owed = 0;
                    }
                    owed += after + GAP;
                }
                let end = begun + text[begun..].trim_end().len();
                text.truncate(end);
                text.push('\n');
            }
        }
        text
    }

    fn as_list(&self, screen: &Screen) -> String {
        let mut text = String::new();
        for row in &self.rows {
            let told = self.titles.iter().zip(row).enumerate();
            for (at, (title, cell)) in told.filter(|(at, it)| *at == 0 || !it.1.is_empty()) {
                let room = screen.width.saturating_sub(INDENT * 2 + title.width() + 1);
                let lead = if at == 0 { INDENT } else { INDENT * 2 };
                for (nth, part) in cell.wrapped(room.max(NARROWEST)).iter().enumerate() {
                    let label = match nth {
                        0 => screen.paint(Style::Faint, title),
                        _ => " ".repeat(title.width()),
                    };
                    let part = screen.paint(part.style, &part.text);
                    let line = format!("{}{label} {part}", " ".repeat(lead));
                    text.push_str(line.trim_end());
                    text.push('\n');
                }
            }
        }
        text
    }
}

/// How many columns a text takes that has no control characters.
fn columns(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { text.width() }
}

/// The parts of a word, which may be broken behind a slash or hyphen that follows a letter: names, but not
/// networks or ranges.
fn parts(word: &str) -> Vec<&str> {
    let mut parts = Vec::new();
    let (mut from, mut letter) = (0, false);
    for (at, char) in word.char_indices() {
        if letter && matches!(char, '/' | '-') {
            parts.push(&word[from..=at]);
            from = at + 1;
        }
        letter = char.is_alphabetic();
    }
    parts.push(&word[from..]);
    parts
}

/// Breaks a text into lines of at most `width` columns, at spaces where possible.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    let mut line = String::new();
    for word in text.split(' ') {
        let space = usize::from(!line.is_empty());
        if line.width() + space + word.width() <= width {
            if space == 1 {
                line.push(' ');
            }
            line.push_str(word);
            continue;
        }
        if !line.is_empty() {
            lines.push(std::mem::take(&mut line));
        }
        for part in parts(word) {
            if line.width() + part.width() > width && !line.is_empty() {
                lines.push(std::mem::take(&mut line));
            }
            for char in part.chars() {
                if line.width() + char.width().unwrap_or(0) > width {
                    lines.push(std::mem::take(&mut line));
                }
                line.push(char);
            }
        }
    }
    lines.push(line);
    lines
}

#[cfg(test)]
mod tests {
    use super::{Cell, Screen, Style, Table, wrap};

    fn table() -> Table {
        let mut table = Table::new(["name", "traffic", "packets"]).numbers(&[2]);
        let cells = ["catalogue", "80/tcp, 443/tcp, 443/udp", "12"];
        table.row(cells.map(Cell::plain).to_vec());
        table.row(vec![Cell::new("nuisance", Style::Strong), Cell::plain("any"), Cell::plain("7")]);
        table
    }

    #[test]
    fn what_is_said_elsewhere_too_is_left_out_first() {
        let spare = table().spare(&[0]);
        assert_eq!(spare.render(&Screen::of_width(40)), table().render(&Screen::of_width(40)));
        let text = spare.render(&Screen::of_width(24));
        let titles: Vec<&str> = text.lines().next().expect("titles").split_whitespace().collect();
        assert_eq!(titles, ["traffic", "packets"], "{text}");
        assert!(text.contains("443/udp") && !text.contains("catalogue"), "{text}");
        assert!(table().render(&Screen::of_width(24)).contains("name catalogue"), "a list");
    }

    #[test]
    fn wide_screens_get_a_grid_and_narrow_ones_wrap_it() {
        insta::assert_snapshot!(table().render(&Screen::of_width(80)), @r"
          name       traffic                   packets
          catalogue  80/tcp, 443/tcp, 443/udp       12
          nuisance   any                             7
        ");
        insta::assert_snapshot!(table().render(&Screen::of_width(40)), @r"
          name       traffic             packets
          catalogue  80/tcp, 443/tcp,         12
                     443/udp
          nuisance   any                       7
        ");
    }

    #[test]
    fn what_cannot_fit_becomes_a_list() {
        insta::assert_snapshot!(table().render(&Screen::of_width(24)), @r"
          name catalogue
            traffic 80/tcp,
                    443/tcp,
                    443/udp
            packets 12
          name nuisance
            traffic any
            packets 7
        ");
    }

    #[test]
    fn long_words_are_broken_and_nothing_is_lost() {
        let lines = wrap("2001:db8:51::/64, fd44:8::/64", 10);
        assert!(lines.iter().all(|line| line.len() <= 10), "{lines:?}");
        assert_eq!(lines.concat().replace(' ', ""), "2001:db8:51::/64,fd44:8::/64");
    }
}
