//! Who tells a story.

use crate::commands::Typed;
use crate::render::{self, Screen, Style};

/// Who tells a story, for people or not at all.
pub(super) struct Teller {
    pub screen: Screen,
    pub silent: bool,
    pub typed: Typed,
}

impl Teller {
    pub fn say(&self, text: &str) {
        if !self.silent {
            // Whoever no longer reads the story misses only the rest of it.
            let _ = render::print(text);
        }
    }

    pub fn opening(&self, title: &str, text: &str) {
        self.say(&format!("{}\n\n{text}", self.screen.paint(Style::Strong, title)));
    }

    pub fn chapter(&self, title: &str, text: &str) {
        let lines = render::wrap(text, self.screen.width.min(100)).join("\n");
        self.say(&format!("\n{}\n{lines}\n\n", self.screen.paint(Style::Strong, title)));
    }

    pub fn command(&self, words: &str) {
        let line = format!("$ tipstaff {words}");
        self.say(&format!("{}\n", self.screen.paint(Style::Strong, &line)));
    }
}
