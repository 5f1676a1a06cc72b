//! The report as comma-separated values (RFC 4180): one line for each cell of the matrix.

use tipstaff_app::report::Report;

/// The report as comma-separated values.
pub fn csv(report: &Report) -> String {
    let mut sheet = csv::Writer::from_writer(Vec::new());
    let titles = [
        "host",
        "port",
        "for",
        "program",
        "from",
        "meets",
        "parts",
        "decided_by",
        "seen",
        "agree",
        "made",
        "came_admitted",
        "came_denied",
    ];
    // Writing into memory does not fail.
    let _ = sheet.write_record(titles);
    for row in &report.matrix.rows {
        for (place, cell) in report.matrix.places.iter().zip(&row.cells) {
            let agree = cell.agree.map_or("", |it| if it { "yes" } else { "no" });
            let programs = row.programs.as_ref().map(|it| it.join("; ")).unwrap_or_default();
            let fields = [
                report.host.clone(),
                row.what.clone(),
                row.meanings.join("; "),
                programs,
                place.clone(),
                cell.word.to_string(),
                cell.parts.join("; "),
                cell.by.join("; "),
                cell.seen.join("; "),
                agree.to_owned(),
                report.made.clone(),
                row.came.and_then(|it| it.admitted).map(|it| it.to_string()).unwrap_or_default(),
                row.came.map(|it| it.denied.to_string()).unwrap_or_default(),
            ];
            let _ = sheet.write_record(fields.map(|it| harmless(&it)));
        }
    }
    String::from_utf8_lossy(&sheet.into_inner().unwrap_or_default()).into_owned()
}

/// Spreadsheets take what begins so for a formula; names of programs are from outside.
pub fn harmless(field: &str) -> String {
    let clean = crate::render::clean(field);
    if clean.starts_with(['=', '+', '@', '\t']) || clean.starts_with('-') && clean.len() > 1 {
        format!("'{clean}")
    } else {
        clean
    }
}

#[cfg(test)]
mod tests {
    use super::harmless;

    #[test]
    fn nothing_becomes_a_formula() {
        assert_eq!(harmless("=1+1"), "'=1+1");
        assert_eq!(harmless("@cmd"), "'@cmd");
        assert_eq!(harmless("-"), "-");
        assert_eq!(harmless("443/tcp"), "443/tcp");
    }
}
