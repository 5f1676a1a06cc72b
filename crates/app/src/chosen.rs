//! Which of many rules are meant, and in which order they are listed.

use crate::Failure;
use tipstaff_core::policy::{Policy, Rule, Verdict, nearest};
use tipstaff_core::space::{Direction, PortProtocol};

/// In which order rules are listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// As they are asked.
    Asked,
    /// By name.
    Name,
    /// Allow, deny, reject.
    Verdict,
    /// By the lowest port; those without ports last.
    Port,
    /// What has taken most first.
    Hits,
}

/// One thing that a rule must be like.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Must {
    Verdict(Verdict),
    Direction(Direction),
    Port(u16),
    Program(String),
    User(String),
    Place(String),
    Name(String),
    Paused(bool),
}

/// All that rules must be like to be listed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wanted(Vec<Must>);

/// The words that can be said about rules.
const KEYS: [&str; 8] =
    ["verdict", "direction", "port", "program", "user", "place", "name", "paused"];

impl Wanted {
    /// Reads words such as `verdict=deny port=5432 paused`.
    ///
    /// # Errors
    /// [`Failure`] for a word that says nothing about rules.
    pub fn parse(words: &str, policy: &Policy) -> Result<Self, Failure> {
        let mut all = Vec::new();
        for word in words.split_whitespace() {
            let (key, value) = word.split_once('=').unwrap_or((word, ""));
            let odd = |expected: String| {
                Failure::usage(
                    format!("--where does not understand `{}`", word.escape_debug()),
                    expected,
                )
            };
            let no_value = || odd(format!("expected a value, such as `{key}={}`", example(key)));
            if value.is_empty() && key != "paused" && KEYS.contains(&key) {
                return Err(no_value());
            }
            all.push(match key {
                "verdict" => Must::Verdict(
                    Verdict::parse(value)
                        .ok_or_else(|| odd("expected `allow`, `deny` or `reject`".into()))?,
                ),
                "direction" => {
                    Must::Direction(Direction::parse(value).ok_or_else(|| {
                        odd("expected `inbound`, `outbound` or `forwarded`".into())
                    })?)
                }
                "port" => Must::Port(
                    value.parse().map_err(|_| odd("expected a number up to 65535".into()))?,
                ),
                "program" => Must::Program(value.to_owned()),
                "user" => Must::User(value.to_owned()),
                "place" => {
                    if policy.place(value).is_none() {
                        let names = policy.places.iter().map(|it| it.name.as_str());
                        return Err(odd(match nearest(value, names) {
                            Some(near) => format!("did you mean the place `{near}`?"),
                            None => "`tipstaff place list` lists the places".into(),
                        }));
                    }
                    Must::Place(value.to_owned())
                }
                "name" => Must::Name(value.to_owned()),
                "paused" => Must::Paused(match value {
                    "" | "true" => true,
                    "false" => false,
                    _ => return Err(odd("expected `paused` or `paused=false`".into())),
                }),
                _ => {
                    return Err(odd(match nearest(key, KEYS) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("expected one of: {}", KEYS.join(", ")),
                    }));
                }
            });
        }
        Ok(Self(all))
    }

    /// Whether the rule is like that.
    pub fn holds(&self, rule: &Rule) -> bool {
        self.0.iter().all(|must| match must {
            Must::Verdict(verdict) => rule.verdict == *verdict,
            Must::Direction(direction) => rule.direction == *direction,
            Must::Port(port) => rule.traffic.has_port(*port),
            Must::Program(path) => rule.programs.contains(path),
            Must::User(user) => rule.users.contains(user),
            Must::Place(place) => {
                let named = rule.from_terms.iter().chain(&rule.to_terms);
                named.into_iter().any(|it| it.trim_start_matches('!') == place)
            }
            Must::Name(part) => rule.name.contains(part.as_str()),
            Must::Paused(paused) => rule.paused == *paused,
        })
    }
}

fn example(key: &str) -> &'static str {
    match key {
        "verdict" => "deny",
        "direction" => "outbound",
        "port" => "5432",
        "program" => "/usr/sbin/catalogued",
        "user" => "seedbase",
        "place" => "curators",
        _ => "shell",
    }
}

/// The lowest port that the rule names.
pub(super) fn lowest_port(rule: &Rule) -> Option<u16> {
    let ports = PortProtocol::ALL.into_iter().map(|it| &rule.traffic.ports[it]);
    ports.filter_map(|it| it.ranges().first().map(|range| range.0)).min()
}
