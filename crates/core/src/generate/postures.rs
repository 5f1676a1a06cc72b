//! Postures made up from a seed.

use super::policies::{Generator, HOST_NAME};
use super::words::{POSTURE, TURNED_AWAY};
use crate::space::Direction;
use std::fmt::Write;

impl Generator {
    /// Adds a posture to the host.
    pub(super) fn posture(&mut self, text: &mut String) {
        let section = format!("host.{HOST_NAME}.posture.{POSTURE}");
        let instead = self.one_in(2);
        let _ = writeln!(text, "\n[{section}]\nwhy = \"made up\"\ninstead = {instead}");
        let _ = writeln!(text, "accept = {{ overlap = \"made up\" }}");
        if self.one_in(4) {
            let _ = writeln!(text, "turned-away = [\"{}\"]", self.pick(&TURNED_AWAY));
        }
        let direction = self.pick(&Direction::ALL);
        let verdict = self.pick(&["allow", "deny", "reject"]);
        let _ = writeln!(text, "[{section}.default]\n{direction} = \"{verdict}\"");
        if self.one_in(3) {
            let _ = writeln!(text, "[{section}.baseline]\ndhcp = {}", self.one_in(2));
        }
        for number in 0..self.below(6) {
            self.rule(text, &section, &format!("away-{number}"));
        }
        if self.one_in(3) {
            let _ = writeln!(text, "\n[[host.{HOST_NAME}.expect]]\ntraffic = [\"25/tcp\"]");
            let _ = writeln!(text, "verdict = \"deny\"\nposture = \"{POSTURE}\"");
        }
    }
}
