//! Commands that change the policy.

use super::complete::{bundles, places, places_and_services, rules, services};
use super::{DirectionWord, Global, Output};
use crate::app::edit::{self, Request};
use crate::app::{Failure, load, load_all};
use crate::render::{self, Screen};
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{
    Assignment, NamedEdit, Place, RuleEdit, Value, edit_named, edit_rule, set_default,
};

/// What can be done to rules.
#[derive(Debug, Subcommand)]
pub enum Rule {
    /// Add a rule
    Add(Add),
    /// Give keys of a rule other values
    Change(Change),
    /// Give a rule another place in the order
    Move(Move),
    /// Switch a rule off, and keep it
    Pause(Named),
    /// Switch a paused rule on again
    Resume(Named),
    /// Remove a rule
    Remove(Named),
    /// List the host's rules in order
    List,
}

/// What every change has.
#[derive(Debug, Args)]
pub struct Common {
    /// The bundle whose rule it is; the host's own rules if left out
    #[arg(long, value_name = "NAME", add = Names::new(bundles))]
    bundle: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// The keys of a rule.
#[derive(Debug, Args)]
pub struct Keys {
    /// Traffic that may pass, such as 443/tcp
    #[arg(long, value_name = "TRAFFIC", num_args = 1.., conflicts_with_all = ["deny", "reject"])]
    allow: Vec<String>,
    /// Traffic that is dropped in silence
    #[arg(long, value_name = "TRAFFIC", num_args = 1.., conflicts_with = "reject")]
    deny: Vec<String>,
    /// Traffic that is refused with an answer
    #[arg(long, value_name = "TRAFFIC", num_args = 1..)]
    reject: Vec<String>,
    /// Which way it goes
    #[arg(long, value_enum)]
    direction: Option<DirectionWord>,
    /// Senders: places and addresses; with ! in front, all but those
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    from: Vec<String>,
    /// Receivers, likewise
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    to: Vec<String>,
    /// Only at these of the host's own addresses
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    at: Vec<String>,
    /// Only by these interfaces, by role or name
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    via: Vec<String>,
    /// Only out by these interfaces (for forwarded packets)
    #[arg(long, value_name = "INTERFACE", num_args = 1..)]
    out_via: Vec<String>,
    /// Only from these ports
    #[arg(long, value_name = "PORTS", num_args = 1..)]
    source_ports: Vec<String>,
    /// Only for sockets of these executables
    #[arg(long, value_name = "PATH", num_args = 1..)]
    program: Vec<String>,
    /// How many new connections, such as "6/minute per source"
    #[arg(long, value_name = "RATE")]
    rate: Option<String>,
    /// Report the packets it takes; with a rate, at most so many
    #[arg(long, value_name = "RATE", num_args = 0..=1, default_missing_value = "")]
    log: Option<String>,
    /// When the rule ends by itself, such as 2026-12-24T18:00:00Z
    #[arg(long, value_name = "TIME")]
    until: Option<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
}

/// Where a rule goes.
#[derive(Debug, Args)]
#[group(multiple = false)]
pub struct Where {
    /// Ahead of all other rules
    #[arg(long)]
    first: bool,
    /// Behind all other rules
    #[arg(long)]
    last: bool,
    /// Right before this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules))]
    before: Option<String>,
    /// Right after this rule
    #[arg(long, value_name = "NAME", add = Names::new(rules))]
    after: Option<String>,
}

/// Options of `rule add`.
#[derive(Debug, Args)]
pub struct Add {
    /// The new rule's name
    name: String,
    #[command(flatten)]
    keys: Keys,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    common: Common,
}

/// Options of `rule change`.
#[derive(Debug, Args)]
pub struct Change {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    #[command(flatten)]
    keys: Keys,
    /// Its new name
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// Take these keys away, such as: --drop from rate
    #[arg(long, value_name = "KEY", num_args = 1.., value_parser = DROPPABLE)]
    drop: Vec<String>,
    #[command(flatten)]
    common: Common,
}

/// Keys without which a rule is still one.
const DROPPABLE: [&str; 12] = [
    "direction",
    "from",
    "to",
    "at",
    "via",
    "out-via",
    "source-ports",
    "program",
    "rate",
    "log",
    "until",
    "why",
];

/// Options of `rule move`.
#[derive(Debug, Args)]
pub struct Move {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    #[command(flatten)]
    place: Where,
    #[command(flatten)]
    common: Common,
}

/// A rule.
#[derive(Debug, Args)]
pub struct Named {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    #[command(flatten)]
    common: Common,
}

/// What can be done to places.
#[derive(Debug, Subcommand)]
pub enum PlaceCommand {
    /// Add a place
    Add(PlaceKeys),
    /// Give a place other addresses
    Change(PlaceKeys),
    /// Remove a place that nothing uses
    Remove(Gone),
    /// List the places
    List,
}

/// Options of `place add` and `place change`.
#[derive(Debug, Args)]
pub struct PlaceKeys {
    /// Its name
    #[arg(add = Names::new(places))]
    name: String,
    /// Networks, addresses and ranges, of both IP versions
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    addresses: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Its new name (for `change`)
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// What goes.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its name
    #[arg(add = Names::new(places_and_services))]
    name: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// What can be done to services.
#[derive(Debug, Subcommand)]
pub enum ServiceCommand {
    /// Add a service
    Add(ServiceKeys),
    /// Give a service other ports
    Change(ServiceKeys),
    /// Remove a service that nothing uses
    Remove(Gone),
    /// List the policy's own services
    List,
    /// Find services by name, port number or description, the built-in ones too
    Find {
        /// A part of a name or description, or a port number
        word: String,
    },
}

/// Options of `service add` and `service change`.
#[derive(Debug, Args)]
pub struct ServiceKeys {
    /// Its name
    #[arg(add = Names::new(services))]
    name: String,
    /// Its ports, such as 80/tcp
    #[arg(long, value_name = "TRAFFIC", num_args = 1..)]
    ports: Vec<String>,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT")]
    why: Option<String>,
    /// Its new name (for `change`)
    #[arg(long, value_name = "NAME")]
    rename: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `defaults`.
#[derive(Debug, Args)]
pub struct Defaults {
    /// For packets to the host: allow, deny or reject
    #[arg(long, value_name = "VERDICT")]
    inbound: Option<String>,
    /// For packets from the host
    #[arg(long, value_name = "VERDICT")]
    outbound: Option<String>,
    /// For packets through the host
    #[arg(long, value_name = "VERDICT")]
    forwarded: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

fn text(value: &str) -> Value {
    Value::Text(value.to_owned())
}

fn list_of(key: &'static str, values: &[String]) -> Option<Assignment> {
    (!values.is_empty()).then(|| (key, Some(Value::List(values.to_vec()))))
}

fn text_of(key: &'static str, value: Option<&String>) -> Option<Assignment> {
    value.map(|value| (key, Some(text(value))))
}

impl Keys {
    fn assignments(&self) -> Vec<Assignment> {
        let direction = self.direction.map(|it| it.direction().as_str().to_owned());
        let program = match &self.program[..] {
            [one] => Some(("program", Some(text(one)))),
            several => list_of("program", several),
        };
        let log = self.log.as_ref().map(|cap| {
            let value = if cap.is_empty() { Value::Switch(true) } else { text(cap) };
            ("log", Some(value))
        });
        [
            list_of("allow", &self.allow),
            list_of("deny", &self.deny),
            list_of("reject", &self.reject),
            text_of("direction", direction.as_ref()),
            list_of("from", &self.from),
            list_of("to", &self.to),
            list_of("at", &self.at),
            list_of("via", &self.via),
            list_of("out-via", &self.out_via),
            list_of("source-ports", &self.source_ports),
            program,
            text_of("rate", self.rate.as_ref()),
            log,
            text_of("until", self.until.as_ref()),
            text_of("why", self.why.as_ref()),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

impl Where {
    fn place(&self) -> Option<Place> {
        match (&self.before, &self.after) {
            (Some(name), _) => Some(Place::Before(name.clone())),
            (None, Some(name)) => Some(Place::After(name.clone())),
            (None, None) if self.first => Some(Place::First),
            (None, None) => self.last.then_some(Place::Last),
        }
    }
}

/// The key of that name.
fn droppable(key: &str) -> Option<Assignment> {
    DROPPABLE.iter().find(|it| **it == key).map(|it| (*it, None))
}

/// Runs a command on rules.
///
/// # Errors
/// Why it could not do its work.
pub fn rule(global: &Global, screen: &Screen, command: &Rule) -> Result<Output, Failure> {
    let switch = |on| RuleEdit::Change { keys: vec![("paused", on)] };
    let (name, common, edit, done) = match command {
        Rule::List => {
            let report = edit::rules(&load(&global.policy, global.host.as_deref())?);
            return Ok(Output::fine(render::report(global.format, screen, &report, render::rules)));
        }
        Rule::Add(add) => {
            let (place, keys) = (add.place.place().unwrap_or(Place::Last), add.keys.assignments());
            (&add.name, &add.common, RuleEdit::Add { place, keys }, "rule added")
        }
        Rule::Change(change) => {
            let mut keys = change.keys.assignments();
            keys.extend(change.rename.as_ref().map(|name| ("name", Some(text(name)))));
            keys.extend(change.drop.iter().filter_map(|key| droppable(key)));
            if keys.is_empty() {
                return Err(Failure::usage(
                    format!("nothing is to change about `{}`", change.name),
                    "name keys and their new values, such as --from curators",
                ));
            }
            (&change.name, &change.common, RuleEdit::Change { keys }, "rule changed")
        }
        Rule::Move(it) => {
            let Some(place) = it.place.place() else {
                return Err(Failure::usage(
                    format!("where should `{}` go?", it.name),
                    "add one of --first, --last, --before NAME and --after NAME",
                ));
            };
            (&it.name, &it.common, RuleEdit::Move { place }, "rule moved")
        }
        Rule::Pause(it) => (&it.name, &it.common, switch(Some(Value::Switch(true))), "rule paused"),
        Rule::Resume(it) => (&it.name, &it.common, switch(None), "rule resumed"),
        Rule::Remove(it) => (&it.name, &it.common, RuleEdit::Remove, "rule removed"),
    };
    let renamed = match command {
        Rule::Change(Change { rename: Some(new), .. }) => new,
        _ => name,
    };
    let request = Request {
        path: &global.policy,
        host: global.host.as_deref(),
        about_host: common.bundle.is_none(),
        rule: Some(renamed),
        done: format!("{done}: {name}"),
        dry: common.dry_run,
    };
    let busy = render::progress("working out the effect");
    let report = edit::edit(&request, |sources, policy, host| {
        let owner = match &common.bundle {
            Some(bundle) => ("bundle", bundle.as_str()),
            None => ("host", host),
        };
        edit_rule(sources, policy, owner, name, &edit)
    })?;
    drop(busy);
    Ok(output(global, screen, &report))
}

fn output(global: &Global, screen: &Screen, report: &edit::Report) -> Output {
    let text = render::report(global.format, screen, report, render::edited);
    Output { text, exit: report.exit() }
}

/// Changes a place or service.
fn named(
    global: &Global,
    screen: &Screen,
    what: Used,
    name: &str,
    edit: &NamedEdit,
    dry: bool,
) -> Result<Output, Failure> {
    let word = what.as_str();
    let done = match edit {
        NamedEdit::Add(_) => format!("{word} added: {name}"),
        NamedEdit::Change(_) => format!("{word} changed: {name}"),
        NamedEdit::Remove => format!("{word} removed: {name}"),
        NamedEdit::Rename(new) => format!("{word} {name} renamed: {new}"),
    };
    let request = Request {
        path: &global.policy,
        host: global.host.as_deref(),
        about_host: false,
        rule: None,
        done,
        dry,
    };
    let report =
        edit::edit(&request, |sources, policy, _| edit_named(sources, policy, what, name, edit))?;
    Ok(output(global, screen, &report))
}

/// New keys, or a new name.
fn changed(
    keys: Vec<Assignment>,
    rename: Option<&String>,
    name: &str,
) -> Result<NamedEdit, Failure> {
    match (rename, keys.is_empty()) {
        (Some(new), true) => Ok(NamedEdit::Rename(new.clone())),
        (None, false) => Ok(NamedEdit::Change(keys)),
        (Some(_), false) => Err(Failure::usage(
            "a new name and new values are two changes",
            "do one after the other",
        )),
        (None, true) => Err(Failure::usage(
            format!("nothing is to change about `{name}`"),
            "name keys and their new values",
        )),
    }
}

impl PlaceKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [list_of("addresses", &self.addresses), text_of("why", self.why.as_ref())];
        keys.into_iter().flatten().collect()
    }
}

impl ServiceKeys {
    fn assignments(&self) -> Vec<Assignment> {
        let keys = [list_of("ports", &self.ports), text_of("why", self.why.as_ref())];
        keys.into_iter().flatten().collect()
    }
}

/// Runs a command on places.
///
/// # Errors
/// Why it could not do its work.
pub fn place(global: &Global, screen: &Screen, command: &PlaceCommand) -> Result<Output, Failure> {
    let run = |name: &str, edit, dry| named(global, screen, Used::Place, name, &edit, dry);
    match command {
        PlaceCommand::List => {
            let report = edit::places(&load_all(&global.policy)?.1);
            Ok(Output::fine(render::report(global.format, screen, &report, render::names)))
        }
        PlaceCommand::Add(it) => run(&it.name, NamedEdit::Add(it.assignments()), it.dry_run),
        PlaceCommand::Change(it) => {
            let edit = changed(it.assignments(), it.rename.as_ref(), &it.name)?;
            run(&it.name, edit, it.dry_run)
        }
        PlaceCommand::Remove(it) => run(&it.name, NamedEdit::Remove, it.dry_run),
    }
}

/// Runs a command on services.
///
/// # Errors
/// Why it could not do its work.
pub fn service(
    global: &Global,
    screen: &Screen,
    command: &ServiceCommand,
) -> Result<Output, Failure> {
    let run = |name: &str, edit, dry| named(global, screen, Used::Service, name, &edit, dry);
    let listed =
        |report| Ok(Output::fine(render::report(global.format, screen, &report, render::names)));
    match command {
        ServiceCommand::List => listed(edit::services(&load_all(&global.policy)?.1)),
        ServiceCommand::Find { word } => {
            // The built-in table can be searched before there is a policy.
            let policy = load_all(&global.policy).ok().map(|it| it.1);
            listed(edit::find_services(policy.as_ref(), word))
        }
        ServiceCommand::Add(it) => run(&it.name, NamedEdit::Add(it.assignments()), it.dry_run),
        ServiceCommand::Change(it) => {
            let edit = changed(it.assignments(), it.rename.as_ref(), &it.name)?;
            run(&it.name, edit, it.dry_run)
        }
        ServiceCommand::Remove(it) => run(&it.name, NamedEdit::Remove, it.dry_run),
    }
}

/// Sets defaults.
///
/// # Errors
/// Why it could not do its work.
pub fn defaults(global: &Global, screen: &Screen, options: &Defaults) -> Result<Output, Failure> {
    let keys: Vec<Assignment> = [
        text_of("inbound", options.inbound.as_ref()),
        text_of("outbound", options.outbound.as_ref()),
        text_of("forwarded", options.forwarded.as_ref()),
    ]
    .into_iter()
    .flatten()
    .collect();
    let words: Vec<String> = keys
        .iter()
        .filter_map(|(key, value)| match value {
            Some(Value::Text(verdict)) => Some(format!("{key} {verdict}")),
            _ => None,
        })
        .collect();
    if keys.is_empty() {
        return Err(Failure::usage(
            "no default is to change",
            "name at least one of --inbound, --outbound and --forwarded",
        ));
    }
    let request = Request {
        path: &global.policy,
        host: global.host.as_deref(),
        about_host: true,
        rule: None,
        done: format!("defaults: {}", words.join(", ")),
        dry: options.dry_run,
    };
    let report = edit::edit(&request, |sources, _, host| set_default(sources, host, &keys))?;
    Ok(output(global, screen, &report))
}
