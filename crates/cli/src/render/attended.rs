//! What `status` says of who attends, and of what is read from files.

use super::text::ago;
use super::{Cell, Screen, Style, Table, wrap};
use tipstaff_app::grouped;
use tipstaff_app::status::Report;

/// What is not seen to at once, if that is so.
pub fn not_attended(report: &Report, screen: &Screen) -> String {
    if report.attended != Some(false) {
        return String::new();
    }
    let named = |it: &tipstaff_app::programs::Report| !it.programs.is_empty();
    let what = [
        (
            report.posture.as_ref().is_some_and(|it| it.attended == Some(false)),
            "a posture that holds by itself comes",
        ),
        (
            report.programs.as_ref().is_some_and(named),
            "a program whose file is replaced is known again",
        ),
    ];
    let what: Vec<&str> = what.iter().filter(|it| it.0).map(|it| it.1).collect();
    let mut parts = Vec::new();
    if !what.is_empty() {
        parts.push(format!("{} with the next command of tipstaff", what.join(", and ")));
    }
    if !report.places.is_empty() {
        parts.push(
            "files of places are read only by `tipstaff place refresh` and its timer".to_owned(),
        );
    }
    if parts.is_empty() {
        return String::new();
    }
    let lead = screen.paint(Style::Mixed, "not attended:");
    let rest = format!(
        "{}; at once by `tipstaff attend`, which the service tipstaff-attend runs",
        parts.join("; ")
    );
    format!("\n{}\n", wrap(&format!("{lead} {rest}"), screen.width).join("\n"))
}

/// How old what places hold is that comes from files.
pub fn places(report: &Report, screen: &Screen) -> String {
    if report.places.is_empty() {
        return String::new();
    }
    let heading = screen.paint(Style::Strong, "Places from files");
    let mut table =
        Table::new(["place", "ranges", "read", "so since", "came", "went"]).numbers(&[1, 4, 5]);
    for place in &report.places {
        let number = |it: Option<usize>| it.map(|it| grouped(it as u64)).unwrap_or_default();
        table.row(vec![
            Cell::new(&place.name, Style::Strong),
            Cell::plain(number(place.data.ranges)),
            Cell::plain(place.age.map_or("not known".to_owned(), ago)),
            Cell::plain(place.data.taken.clone().unwrap_or_default()),
            Cell::plain(number(place.data.came)),
            Cell::plain(number(place.data.gone)),
        ]);
    }
    format!("\n{heading}\n{}", table.render(screen))
}
