//! The OpenMetrics text format (version 1.0.0).

use std::fmt::Write;

/// The type of a family of measurements.
#[derive(Clone, Copy)]
pub(super) enum Kind {
    Gauge,
    Counter,
}

/// The text, as it grows.
pub(super) struct Exposition {
    text: String,
    /// What all samples are of: a label and its value.
    of: (&'static str, String),
}

impl Exposition {
    /// About a host.
    pub(super) fn of(host: &str) -> Self {
        Self { text: String::new(), of: ("host", host.to_owned()) }
    }

    /// About a fleet.
    pub(super) fn of_fleet(fleet: &str) -> Self {
        Self { text: String::new(), of: ("fleet", fleet.to_owned()) }
    }

    /// The whole text.
    pub(super) fn end(mut self) -> String {
        self.text.push_str("# EOF\n");
        self.text
    }

    /// Begins a family: what its samples are, in a unit if they have one. The name ends with the unit.
    pub(super) fn family(&mut self, name: &str, kind: Kind, unit: Option<&str>, help: &str) {
        let word = match kind {
            Kind::Gauge => "gauge",
            Kind::Counter => "counter",
        };
        // Writing to a text cannot fail.
        let _ = writeln!(self.text, "# TYPE tipstaff_{name} {word}");
        if let Some(unit) = unit {
            let _ = writeln!(self.text, "# UNIT tipstaff_{name} {unit}");
        }
        let _ = writeln!(self.text, "# HELP tipstaff_{name} {}", escaped(help));
    }

    /// One sample of the family that was begun last.
    pub(super) fn sample(
        &mut self,
        name: &str,
        labels: &[(&str, &str)],
        value: impl std::fmt::Display,
    ) {
        let (label, of) = &self.of;
        let _ = write!(self.text, "tipstaff_{name}{{{label}=\"{}\"", escaped(of));
        for (label, value) in labels {
            let _ = write!(self.text, ",{label}=\"{}\"", escaped(value));
        }
        let _ = writeln!(self.text, "}} {value}");
    }

    /// A family of one gauge.
    pub(super) fn gauge(&mut self, name: &str, help: &str, value: impl std::fmt::Display) {
        self.family(name, Kind::Gauge, None, help);
        self.sample(name, &[], value);
    }
}

/// A text within quotes, or behind `HELP`.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('\n', "\\n").replace('"', "\\\"")
}
