//! What sets are called: so that an edit of the policy leaves the names of what it leaves alone.

use super::encoder::Encoder;
use std::hash::{Hash, Hasher};
use tipstaff_core::fnv::Fnv;
use tipstaff_core::program::{ProgramRule, Test};

/// A longer name than this is not made of what a rule is called; the kernel takes 255 bytes.
const LONGEST: usize = 200;

impl Encoder<'_> {
    /// The name of the next set that does this for its chain or rule.
    pub(super) fn named(&mut self, role: &str) -> String {
        let number = self.roles.entry(role.to_owned()).or_insert(0_u32);
        *number += 1;
        format!("{role}/{number}")
    }

    /// The name of a set whose values are always these.
    pub(super) fn by_content(&mut self, word: &str, test: &Test) -> String {
        let mut hasher = Fnv::default();
        test.hash(&mut hasher);
        let mut name = format!("{word}-{:016x}", hasher.finish());
        while !self.taken.insert(name.clone()) {
            name.push('+');
        }
        name
    }

    /// The name of a set whose values may change: that of what the rule asks for.
    pub(super) fn by_rule(&mut self, rule: &ProgramRule, test: &Test) -> String {
        let id = rule.id.as_ref().map(ToString::to_string).unwrap_or_default();
        if id.len() > LONGEST {
            return self.by_content("set", test);
        }
        let word = match test {
            Test::Source(set) if set.v6.is_empty() => "source-v4",
            Test::Source(_) => "source-v6",
            Test::Destination(set) if set.v6.is_empty() => "destination-v4",
            Test::Destination(_) => "destination-v6",
            Test::SourcePort(_) => "source-port",
            Test::DestinationPort(_) => "destination-port",
            _ => "values",
        };
        self.named(&format!("set/{id}/{word}"))
    }
}
