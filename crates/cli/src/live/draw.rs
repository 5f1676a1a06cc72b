//! How the full screen looks.

use super::board::Board;
use super::lines::style;
use super::rates::Rate;
use crate::render::{Screen, Style, clean};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style as Look};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};
use tipstaff_app::grouped;
use tipstaff_app::watch::Decision;

/// So many rules are shown at most, and no more than a third of the screen.
const RULES: u16 = 10;
/// Where less room is, what a line can do without goes.
const NARROW: u16 = 78;
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// For terminals that show no other signs.
const PLAIN_BARS: [char; 8] = ['.', '.', ':', ':', '-', '=', '+', '#'];

/// Draws it.
pub(super) fn draw(frame: &mut Frame<'_>, board: &Board, screen: &Screen) {
    let area = frame.area();
    let rules = u16::try_from(board.rates.of.len().max(1)).unwrap_or(RULES);
    let rules = rules.min(RULES).min(area.height / 3) + 1;
    let [head, rates, title, stream, foot] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(rules),
        Constraint::Length(1),
        Constraint::Min(1),
        Constraint::Length(1),
    ])
    .areas(area);
    let paint = Paint { screen };
    frame.render_widget(heading(board, &paint), head);
    frame.render_widget(Paragraph::new(busiest(board, &paint, rates)), rates);
    frame.render_widget(stream_title(board, &paint), title);
    frame.render_widget(Paragraph::new(lines(board, &paint, stream)), stream);
    frame.render_widget(footer(board, &paint, foot.width), foot);
    if let Some((text, from)) = &board.over {
        let room = Rect { y: 1, height: area.height.saturating_sub(2), ..area };
        frame.render_widget(Clear, room);
        let text: Vec<Line<'_>> = text.lines().skip(*from).map(Line::raw).collect();
        frame.render_widget(Paragraph::new(text), room);
    }
}

struct Paint<'s> {
    screen: &'s Screen,
}

impl Paint<'_> {
    fn look(&self, style: Style) -> Look {
        let look = Look::default();
        if !self.screen.is_colored() {
            let strong = matches!(style, Style::Strong | Style::Wrong);
            return if strong { look.add_modifier(Modifier::BOLD) } else { look };
        }
        match style {
            Style::Plain => look,
            Style::Strong => look.add_modifier(Modifier::BOLD),
            Style::Faint => look.fg(Color::DarkGray),
            Style::Good => look.fg(Color::Green),
            Style::Closed => look.fg(Color::Blue),
            Style::Mixed => look.fg(Color::Yellow),
            Style::Wrong => look.fg(Color::Red).add_modifier(Modifier::BOLD),
        }
    }

    fn span(&self, style: Style, text: impl Into<String>) -> Span<'static> {
        Span::styled(text.into(), self.look(style))
    }
}

fn heading(board: &Board, paint: &Paint<'_>) -> Line<'static> {
    let mut spans = vec![
        paint.span(Style::Strong, clean(&board.host)),
        Span::raw(format!(": {} decisions seen", grouped(board.seen))),
    ];
    if board.losses.lost > 0 {
        let lost = format!(", {} not seen: too many came", grouped(board.losses.lost));
        spans.push(paint.span(Style::Wrong, lost));
    }
    if board.losses.elsewhere > 0 {
        let elsewhere = format!(", {} met none of our rules", grouped(board.losses.elsewhere));
        spans.push(paint.span(Style::Mixed, elsewhere));
    }
    Line::from(spans)
}

/// The busiest rules, with a curve of the last minute.
fn busiest(board: &Board, paint: &Paint<'_>, area: Rect) -> Vec<Line<'static>> {
    let width = usize::from(area.width);
    let curve = width.saturating_sub(52).clamp(8, 60);
    let title = format!(
        "{:<22} {:<7} {:>9} {:>9}  {:>curve$}",
        "decided by", "verdict", "a second", "in all", "last minute"
    );
    let mut lines = vec![Line::from(paint.span(Style::Faint, title))];
    let list = board.rates.busiest();
    if list.is_empty() {
        lines.push(Line::from(paint.span(Style::Faint, "nothing has been decided yet")));
    }
    for (name, direction, rate) in list.into_iter().take(usize::from(area.height.saturating_sub(1)))
    {
        let name = match direction {
            "inbound" => clean(name),
            _ if name.starts_with("default/") => clean(name),
            other => format!("{} ({other})", clean(name)),
        };
        let verdict = rate.verdict;
        lines.push(Line::from(vec![
            paint.span(Style::Strong, format!("{:<22} ", fitting(&name, 22))),
            paint.span(style(verdict), format!("{:<7} ", verdict.as_str())),
            Span::raw(format!("{:>9.1} {:>9}  ", rate.lately(), grouped(rate.total))),
            paint.span(style(verdict), curve_of(rate, curve, is_unicode())),
        ]));
    }
    lines
}

/// The last seconds as small bars, the tallest of which is the busiest second.
fn curve_of(rate: &Rate, width: usize, unicode: bool) -> String {
    let signs = if unicode { BARS } else { PLAIN_BARS };
    let most = rate.seconds.iter().copied().max().unwrap_or(0).max(1);
    let shown = rate.seconds.iter().skip(rate.seconds.len().saturating_sub(width));
    let bar = |count: &u64| match count {
        0 => ' ',
        count => {
            let at = (count * 8).div_ceil(most).clamp(1, 8) - 1;
            signs[usize::try_from(at).unwrap_or(0)]
        }
    };
    let bars: String = shown.map(bar).collect();
    format!("{bars:>width$}")
}

/// Whether the terminal shows more than ASCII, by what it is told of the language.
fn is_unicode() -> bool {
    let set = |name: &str| std::env::var(name).ok().filter(|it| !it.is_empty());
    let locale = set("LC_ALL").or_else(|| set("LC_CTYPE")).or_else(|| set("LANG"));
    locale.is_some_and(|it| it.to_ascii_lowercase().replace('-', "").contains("utf8"))
}

fn stream_title(board: &Board, paint: &Paint<'_>) -> Line<'static> {
    let mut spans = vec![paint.span(Style::Faint, "decisions")];
    if !board.typed.is_empty() && !board.typing {
        spans.push(Span::raw(format!(", only: {}", clean(&board.typed))));
    }
    if board.held {
        let held = format!("  held; {} since", grouped(board.since));
        spans.push(paint.span(Style::Mixed, held));
    }
    Line::from(spans)
}

/// The stream, the last one at the bottom.
fn lines(board: &Board, paint: &Paint<'_>, area: Rect) -> Vec<Line<'static>> {
    let height = usize::from(area.height);
    let count = board.shown.len();
    // The chosen one is kept in sight.
    let below = board.chosen.map_or(0, |it| it.saturating_sub(height / 2));
    let last = count.saturating_sub(below);
    let first = last.saturating_sub(height);
    let chosen = board.chosen.map(|it| count - 1 - it);
    let one = |at: usize, it: &Decision| decision(it, paint, area.width, chosen == Some(at));
    board
        .shown
        .iter()
        .enumerate()
        .skip(first)
        .take(last - first)
        .map(|(at, it)| one(at, it))
        .collect()
}

fn decision(it: &Decision, paint: &Paint<'_>, width: u16, chosen: bool) -> Line<'static> {
    let narrow = width < NARROW;
    let at = it.time.get(11..if narrow { 19 } else { 23 }).unwrap_or_default().to_owned();
    let by = clean(it.by.as_deref().unwrap_or("(not known)"));
    let mark = if chosen { ">" } else { " " };
    let (other, toward) = match it.direction.as_str() {
        "outbound" => (it.to, "to"),
        _ => (it.from, "from"),
    };
    let place = it.places.first().filter(|_| !narrow);
    let place = place.map(|it| format!(" ({})", clean(it))).unwrap_or_default();
    let onward = match it.direction.as_str() {
        "forwarded" => format!(" to {}", it.to),
        _ => String::new(),
    };
    let by_width = if narrow { 14 } else { 22 };
    // The direction is told behind it.
    let by = if narrow { by.split("/inbound").next().unwrap_or_default() } else { &by };
    let rest = format!("{} {toward} {other}{onward}{place}", clean(&it.traffic));
    let before = at.len() + by_width + 10;
    let rest = fitting(&rest, usize::from(width).saturating_sub(before).max(3));
    let line = Line::from(vec![
        Span::raw(format!("{mark}{at} ")),
        paint.span(style(it.verdict), format!("{:<6} ", it.verdict.as_str())),
        paint.span(Style::Strong, format!("{:<by_width$} ", fitting(by, by_width))),
        Span::raw(rest),
    ]);
    if chosen { line.style(Look::default().add_modifier(Modifier::REVERSED)) } else { line }
}

fn footer(board: &Board, paint: &Paint<'_>, width: u16) -> Line<'static> {
    if board.typing {
        let wrong = board.wrong.as_ref().map(|it| format!("   {}", clean(it))).unwrap_or_default();
        return Line::from(vec![
            paint.span(Style::Strong, format!("only: {}_", clean(&board.typed))),
            paint.span(Style::Mixed, wrong),
        ]);
    }
    if board.over.is_some() {
        return Line::from(paint.span(Style::Faint, "arrows move   any other key: back"));
    }
    if let Some(said) = &board.said {
        return Line::from(paint.span(Style::Strong, clean(said)));
    }
    let all = "/ filter   space hold   arrows choose   Enter why   a admit   t turn away   ? help   q end";
    let few = "/ filter  space hold  Enter why  ? help  q end";
    Line::from(paint.span(Style::Faint, if usize::from(width) > all.len() { all } else { few }))
}

/// No longer than so many signs.
fn fitting(text: &str, width: usize) -> String {
    match text.chars().count() > width {
        true => text.chars().take(width - 2).chain("..".chars()).collect(),
        false => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::{curve_of, fitting};
    use crate::live::rates::Rate;
    use tipstaff_app::vocabulary::Verdict;

    #[test]
    fn the_tallest_bar_is_the_busiest_second() {
        let seconds = [0, 1, 4, 8, 800, 0].into();
        let rate = Rate { verdict: Verdict::Deny, total: 813, seconds };
        assert_eq!(curve_of(&rate, 8, true), "   ▁▁▁█ ");
        assert_eq!(curve_of(&rate, 8, false), "   ...# ");
        assert_eq!(curve_of(&rate, 2, false), "# ");
        assert!((rate.lately() - 162.6).abs() < 0.01, "the second that goes on does not count");
    }

    #[test]
    fn what_is_cut_shows_that_it_is() {
        assert_eq!(fitting("198.51.100.130", 14), "198.51.100.130");
        assert_eq!(fitting("198.51.100.130", 12), "198.51.100..");
    }
}
