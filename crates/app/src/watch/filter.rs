//! Which decisions somebody wants to see.

use super::decision::Decision;
use crate::callers::wanted_traffic;
use crate::{Failure, Loaded};
use tipstaff_core::policy::{Policy, Source, Verdict, nearest, read_addresses, read_traffic};
use tipstaff_core::space::{AddressSet, Direction, TrafficSet};

/// Which decisions somebody wants to see: all that every word is about.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    verdicts: Vec<Verdict>,
    directions: Vec<Direction>,
    rules: Vec<String>,
    from: Option<AddressSet>,
    to: Option<AddressSet>,
    traffic: Option<TrafficSet>,
    ports: Vec<(u16, u16)>,
}

/// The words that say something by themselves.
const WORDS: [&str; 11] = [
    "allowed",
    "denied",
    "rejected",
    "inbound",
    "outbound",
    "forwarded",
    "port",
    "from",
    "to",
    "rule",
    "about",
];

impl Filter {
    /// Reads words such as `port 22 from stacks denied`. Several words of a kind widen it: `denied rejected`.
    ///
    /// # Errors
    /// [`Failure`] if a word means nothing here.
    pub fn parse(text: &str, loaded: Option<&Loaded>) -> Result<Self, Failure> {
        let mut filter = Self::default();
        let mut words = text.split_whitespace();
        while let Some(word) = words.next() {
            let mut next = |what: &str| {
                words.next().ok_or_else(|| {
                    Failure::usage(
                        format!("`{word}` needs {what} behind it"),
                        format!("such as: {word} {what}"),
                    )
                })
            };
            match word {
                "allowed" => filter.verdicts.push(Verdict::Allow),
                "denied" => filter.verdicts.extend([Verdict::Deny, Verdict::Reject]),
                "rejected" => filter.verdicts.push(Verdict::Reject),
                "port" => filter.ports.push(ports(next("NUMBER")?)?),
                "rule" => filter.rules.push(next("NAME")?.to_owned()),
                "from" => widen(&mut filter.from, &addresses(loaded, "from", next("PLACE")?)?),
                "to" => widen(&mut filter.to, &addresses(loaded, "to", next("PLACE")?)?),
                "about" => filter.widen_traffic(loaded, next("TRAFFIC")?)?,
                word => match Direction::parse(word) {
                    Some(direction) => filter.directions.push(direction),
                    None if word.contains(['/', ':']) => filter.widen_traffic(loaded, word)?,
                    None => return Err(unknown(word)),
                },
            }
        }
        Ok(filter)
    }

    fn widen_traffic(&mut self, loaded: Option<&Loaded>, word: &str) -> Result<(), Failure> {
        let source = Source::new("filter", word);
        let empty = Policy::default();
        let policy = loaded.map_or(&empty, |it| &it.policy);
        let more = read_traffic(policy, &source)
            .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
        let whole = self.traffic.take().map_or_else(|| more.clone(), |it| it.union(&more));
        self.traffic = Some(whole);
        Ok(())
    }

    /// Whether a decision is one of those.
    #[must_use]
    pub fn takes(&self, decision: &Decision) -> bool {
        let seen = decision.seen();
        let any = |list: bool, holds: bool| list || holds;
        let port = match seen.wanted {
            tipstaff_linux::ruleset::Wanted::Port(_, port) => Some(port),
            _ => None,
        };
        any(self.verdicts.is_empty(), self.verdicts.contains(&seen.verdict))
            && any(self.directions.is_empty(), self.directions.contains(&seen.direction))
            && any(
                self.rules.is_empty(),
                decision.by.as_ref().is_some_and(|it| self.rules.contains(it)),
            )
            && any(
                self.ports.is_empty(),
                port.is_some_and(|it| self.ports.iter().any(|(a, b)| (a..=b).contains(&&it))),
            )
            && self.from.as_ref().is_none_or(|it| it.contains(seen.source))
            && self.to.as_ref().is_none_or(|it| it.contains(seen.destination))
            && self.traffic.as_ref().is_none_or(|it| {
                wanted_traffic(seen.wanted).is_some_and(|of| !of.intersection(it).is_empty())
            })
    }
}

fn widen(all: &mut Option<AddressSet>, more: &AddressSet) {
    *all = Some(all.take().map_or_else(|| more.clone(), |it| it.union(more)));
}

fn addresses(loaded: Option<&Loaded>, key: &str, word: &str) -> Result<AddressSet, Failure> {
    let source = Source::new(key, word);
    let empty = Policy::default();
    let policy = loaded.map_or(&empty, |it| &it.policy);
    read_addresses(policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })
}

fn ports(word: &str) -> Result<(u16, u16), Failure> {
    let (first, last) = word.split_once('-').unwrap_or((word, word));
    match (first.parse(), last.parse()) {
        (Ok(first), Ok(last)) if first <= last => Ok((first, last)),
        _ => Err(Failure::usage(
            format!("`{}` is no port", word.escape_debug()),
            "a number up to 65535, or two with a dash between them",
        )),
    }
}

fn unknown(word: &str) -> Failure {
    let help = match nearest(word, WORDS) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("the words are: {}, and terms such as 22/tcp", WORDS.join(", ")),
    };
    Failure::usage(format!("`{}` says nothing about a decision", word.escape_debug()), help)
}
