//! Places whose files have not been read yet.

use super::{Diagnostic, Place, Policy};

impl Policy {
    /// A mistake for each place whose files have not been read yet: what it holds is not known.
    #[must_use]
    pub fn not_read_yet(&self) -> Vec<Diagnostic> {
        self.places.iter().filter_map(Place::not_read_yet).collect()
    }
}

impl Place {
    /// That its files have not been read yet, if they have not, or that what is kept of them is damaged.
    #[must_use]
    pub fn not_read_yet(&self) -> Option<Diagnostic> {
        let data = self.data.as_ref().filter(|it| it.snapshot.is_none())?;
        if let Some(damaged) = &data.damaged {
            return Some((**damaged).clone());
        }
        let message = format!("the files of the place `{}` have not been read yet", self.name);
        let problem = Diagnostic::error("not-read-yet", message, self.origin.clone())
            .expected(format!("it comes from {}", data.definition()))
            .help(format!("`tipstaff place refresh {}` reads them", self.name));
        Some(problem)
    }
}
