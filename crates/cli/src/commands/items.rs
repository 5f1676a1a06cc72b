//! Single items into lists and out of them, as options: `--also-from`, `--not-from` and so on.

use clap::{Arg, ArgMatches, Args, Command, FromArgMatches, error::Error};
use std::marker::PhantomData;
use tipstaff_core::policy::edit::ItemEdit;

/// Whose lists they are.
pub trait Lists {
    /// The keys that hold lists.
    const KEYS: &'static [Key];
}

/// A key that holds a list.
#[derive(Debug)]
pub struct Key {
    key: &'static str,
    /// What an item is called.
    what: &'static str,
    also: &'static str,
    less: &'static str,
    /// The option that sets the whole list.
    whole: &'static str,
}

macro_rules! key {
    ($key:literal, $what:literal) => {
        key!($key, $what, $key)
    };
    ($key:literal, $what:literal, $whole:literal) => {
        Key {
            key: $key,
            what: $what,
            also: concat!("also-", $key),
            less: concat!("not-", $key),
            whole: $whole,
        }
    };
}

/// Lists of a rule.
#[derive(Debug)]
pub struct OfRules;

/// Those of a place.
#[derive(Debug)]
pub struct OfPlaces;

/// What a host has.
#[derive(Debug)]
pub struct OfHosts;

/// What a label has.
#[derive(Debug)]
pub struct OfLabels;

/// What a service has.
#[derive(Debug)]
pub struct OfServices;

impl Lists for OfRules {
    const KEYS: &'static [Key] = &[
        key!("allow", "TRAFFIC"),
        key!("deny", "TRAFFIC"),
        key!("reject", "TRAFFIC"),
        key!("from", "PLACE|ADDRESS"),
        key!("to", "PLACE|ADDRESS"),
        key!("at", "ADDRESS"),
        key!("ingress", "INTERFACE"),
        key!("egress", "INTERFACE"),
        key!("source-ports", "PORTS", "source_ports"),
        key!("published", "PORTS"),
        key!("program", "PATH"),
        key!("user", "USER"),
    ];
}

impl Lists for OfPlaces {
    const KEYS: &'static [Key] =
        &[key!("addresses", "ADDRESS"), key!("country", "CODE"), key!("except", "PLACE|ADDRESS")];
}

impl Lists for OfHosts {
    const KEYS: &'static [Key] = &[
        key!("addresses", "ADDRESS"),
        key!("names", "NAME"),
        key!("labels", "LABEL"),
        key!("turned-away", "PLACE|ADDRESS", "turned_away"),
        key!("shell", "TRAFFIC"),
    ];
}

impl Lists for OfLabels {
    const KEYS: &'static [Key] = &[key!("turned-away", "PLACE|ADDRESS", "turned_away")];
}

impl Lists for OfServices {
    const KEYS: &'static [Key] = &[key!("ports", "TRAFFIC")];
}

/// A port, and what it is for, as they are typed: `5432/tcp=Queries`.
pub fn described(text: &str) -> Option<(&str, &str)> {
    text.split_once('=')
}

/// Items that lists are to hold as well, or not any more.
#[derive(Debug)]
pub struct Items<L> {
    edits: Vec<ItemEdit>,
    of: PhantomData<L>,
}

impl<L> Items<L> {
    /// They, in the order of the keys.
    pub fn edits(&self) -> Vec<ItemEdit> {
        self.edits.clone()
    }
}

impl<L: Lists> Args for Items<L> {
    fn augment_args(command: Command) -> Command {
        L::KEYS.iter().fold(command, |command, key| {
            let arg = |name: &'static str, help: String| {
                Arg::new(name)
                    .long(name)
                    .value_name(key.what)
                    .num_args(1..)
                    .help(help)
                    .conflicts_with(key.whole)
            };
            let also = format!("What `{}` is to hold as well", key.key);
            let less = format!("What `{}` is not to mean any more", key.key);
            command.arg(arg(key.also, also)).arg(arg(key.less, less))
        })
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<L: Lists> FromArgMatches for Items<L> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
        let mut edits = Vec::new();
        for key in L::KEYS {
            for (name, also) in [(key.also, true), (key.less, false)] {
                let items = matches.get_many::<String>(name).into_iter().flatten();
                edits.extend(items.map(|it| {
                    let (item, meaning) = match described(it).filter(|_| key.key == "ports") {
                        Some((item, meaning)) => (item, Some(meaning)),
                        None => (it.as_str(), None),
                    };
                    let meaning = meaning.map(str::to_owned);
                    ItemEdit { key: key.key, item: item.to_owned(), meaning, also }
                }));
            }
        }
        Ok(Self { edits, of: PhantomData })
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}
