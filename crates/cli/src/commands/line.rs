//! The whole line: every command, and how one is run.

use super::adopt::Adopt;
use super::ask::Ask;
use super::attend::Attend;
use super::baseline::Baseline;
use super::bundle::Bundle;
use super::callers::Callers;
use super::carry::Carry;
use super::compare::Compare;
use super::confirm::Confirm;
use super::context::Context;
use super::cut::Cut;
use super::defaults::Defaults;
use super::demo::Demo;
use super::docket::Docket;
use super::draft::Draft;
use super::enforce::Enforce;
use super::examples::examples;
use super::expect::Expect;
use super::export::Export;
use super::facts::Facts;
use super::fetch::Fetch;
use super::finding::Finding;
use super::fleet::Fleet;
use super::formats::{formats_of, with_formats};
use super::global::Global;
use super::host::Host;
use super::interface::Interface;
use super::label::Label;
use super::lend_hand::LendHand;
use super::meant::explained;
use super::newcomers::Newcomers;
use super::output::Output;
use super::place::Place;
use super::posture::Posture;
use super::programs::Programs;
use super::reach::Reach;
use super::rehearse::Rehearse;
use super::release::Release;
use super::report::Report;
use super::revert::Revert;
use super::review::Review;
use super::rule::Rule;
use super::see_out::SeeOut;
use super::service::Service;
use super::show::Show;
use super::shut::Shut;
use super::stand_by::StandBy;
use super::stand_in::StandIn;
use super::status::Status;
use super::turn_away::TurnAway;
use super::undo::Undo;
use super::vantage::Vantage;
use super::version::VERSION;
use super::watch::Watch;
use crate::render::Screen;
use clap::error::ErrorKind;
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use std::ffi::OsString;
use tipstaff_app::store::Home;
use tipstaff_app::{Failure, transaction};
use tipstaff_linux::{Here, Machine};

/// Who may reach which port of this host: written as a policy, enforced by the kernel, checked
/// from outside.
#[derive(Debug, Parser)]
#[command(
    name = "tipstaff",
    version,
    long_version = VERSION,
    after_help = "Exit codes: 0 all is well; 1 the command worked and found something wrong; \
                  2 bad input or usage; 3 the system refused.\n\
                  New here? `tipstaff demo` walks through everything in a sealed lab."
)]
pub struct Cli {
    /// What every command has.
    #[command(flatten)]
    pub global: Global,
    /// What is to be done.
    #[command(subcommand)]
    command: Command,
}

/// What can be done.
#[derive(Debug, Subcommand)]
enum Command {
    /// Draft a first policy from what listens on this machine and who is connected now
    Draft(Draft),
    /// Make a policy of the rules that others have in the kernel, of access control lists, or of a whole plan; what it cannot say is named
    Adopt(Adopt),
    /// Write the policy for other programs: as access control lists, with what those cannot say named, or its whole plan
    Export(Export),
    /// Add, change, move, pause and remove rules; each change tells its exact effect
    #[command(subcommand)]
    Rule(Box<Rule>),
    /// Add, change and remove places
    #[command(subcommand)]
    Place(Place),
    /// Add, change, remove and find services
    #[command(subcommand)]
    Service(Service),
    /// Add, change, remove and list hosts
    #[command(subcommand)]
    Host(Box<Host>),
    /// Add, change and remove lists of rules that hosts share, and use them on a host
    #[command(subcommand)]
    Bundle(Bundle),
    /// Add, change and remove what all hosts with a label have
    #[command(subcommand)]
    Label(Box<Label>),
    /// Say what the host's interfaces are for
    #[command(subcommand)]
    Interface(Interface),
    /// State what must hold whatever the rules are
    #[command(subcommand)]
    Expect(Box<Expect>),
    /// Accept findings of `review` that are meant so
    #[command(subcommand)]
    Finding(Box<Finding>),
    /// Set what happens where no rule decides
    Defaults(Defaults),
    /// Set what keeps the network working, and how pings are answered
    Baseline(Baseline),
    /// Take back the last change that was made from the command line
    Undo(Undo),
    /// Show the host's decision list as it will be enforced
    Show(Show),
    /// Find what is probably not meant: rules that never decide, ports open too wide, and more
    Review(Review),
    /// Say what happens to one packet, who can reach a port, what a sender can reach, what a rule decides
    Ask(Ask),
    /// Show which packets two policies treat differently, or a policy and the kernel
    Compare(Compare),
    /// Put the policy's rules into the kernel; they go by themselves unless confirmed
    Enforce(Enforce),
    /// Keep what was enforced last
    Confirm(Confirm),
    /// Go back to what was confirmed before, or to any earlier entry of the docket
    Revert(Revert),
    /// Take our rules out of the kernel; they come back by themselves unless confirmed
    Release(Release),
    /// End connections that began before and that the policy would not admit any more
    Cut(Cut),
    /// Turn somebody away, for a while or for good, in the policy and in force in one step; or not any more
    TurnAway(TurnAway),
    /// Shut the door: nothing in or out but loopback at once, whatever the rules say
    Shut(Shut),
    /// Say which posture holds instead of the policy's rules, take one, or leave it
    Posture(Posture),
    /// Stay, and see at once to what otherwise the next command sees to: postures that hold by themselves, programs whose
    /// files are replaced, files of places that are written
    Attend(Attend),
    /// Show what was enforced on this host, when, by whom, and what became of it
    Docket(Docket),
    /// Compare the kernel with the policy, and show what each rule has taken
    Status(Status),
    /// Write down what this machine answers, for somebody who is to look into a mistake of Tipstaff
    Facts(Facts),
    /// Show who came, for what, how often, first and last, and what was decided; the kernel remembers it
    Callers(Callers),
    /// Show each decision as it is made: on a full screen, or a line each where nobody sits before it
    Watch(Watch),
    /// Show what began to listen where it did not before, what the policy says of it, and how to admit it or leave it shut
    Newcomers(Newcomers),
    /// Show the programs and users that rules in force name, and whether their sockets are known
    Programs(Programs),
    /// Show which listening ports can be reached, from where, and who decides
    Reach(Reach),
    /// Make a report to hand over: what can be reached from where, the decisions, the findings, how it was checked
    Report(Report),
    /// The far end of `reach --vantage`: sends the probes that the near end asks for over standard input
    Vantage(Vantage),
    /// Try every port in a sealed lab with real packets, from everybody whom the policy tells apart; needs no privileges
    Rehearse(Rehearse),
    /// One policy for many hosts: seal it, roll it out, and see what each has
    #[command(subcommand)]
    Fleet(Box<Fleet>),
    /// Walk through the whole example in a sealed lab; needs no privileges
    Demo(Demo),
    /// The part of a rehearsal that runs inside the lab
    #[command(hide = true)]
    LendHand(LendHand),
    /// Watches over a change that waits to be confirmed
    #[command(hide = true)]
    StandBy(StandBy),
    /// Sees a posture out
    #[command(hide = true)]
    SeeOut(SeeOut),
    /// Speaks with servers of places' files
    #[command(hide = true)]
    Fetch(Fetch),
    /// Speaks with the store of a fleet
    #[command(hide = true)]
    Carry(Carry),
    /// One of the demo's listening programs
    #[command(hide = true)]
    StandIn(StandIn),
}

impl Command {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        match self {
            Self::Draft(it) => it.run(context),
            Self::Adopt(it) => it.run(context),
            Self::Export(it) => it.run(context),
            Self::Rule(it) => it.run(context),
            Self::Place(it) => it.run(context),
            Self::Service(it) => it.run(context),
            Self::Host(it) => it.run(context),
            Self::Bundle(it) => it.run(context),
            Self::Label(it) => it.run(context),
            Self::Interface(it) => it.run(context),
            Self::Expect(it) => it.run(context),
            Self::Finding(it) => it.run(context),
            Self::Defaults(it) => it.run(context),
            Self::Baseline(it) => it.run(context),
            Self::Undo(it) => it.run(context),
            Self::Show(it) => it.run(context),
            Self::Review(it) => it.run(context),
            Self::Ask(it) => it.run(context),
            Self::Compare(it) => it.run(context),
            Self::Enforce(it) => it.run(context),
            Self::Confirm(it) => it.run(context),
            Self::Revert(it) => it.run(context),
            Self::Release(it) => it.run(context),
            Self::Cut(it) => it.run(context),
            Self::TurnAway(it) => it.run(context),
            Self::Shut(it) => it.run(context),
            Self::Posture(it) => it.run(context),
            Self::Attend(it) => it.run(context),
            Self::Newcomers(it) => it.run(context),
            Self::Docket(it) => it.run(context),
            Self::Status(it) => it.run(context),
            Self::Facts(it) => it.run(context),
            Self::Callers(it) => it.run(context),
            Self::Watch(it) => it.run(context),
            Self::Programs(it) => it.run(context),
            Self::Reach(it) => it.run(context),
            Self::Report(it) => it.run(context),
            Self::Vantage(it) => it.run(context),
            Self::Rehearse(it) => it.run(context),
            Self::Fleet(it) => it.run(context),
            Self::Demo(it) => it.run(context),
            Self::LendHand(it) => it.run(),
            Self::StandBy(it) => it.run(context),
            Self::SeeOut(_) => SeeOut::run(context),
            Self::Fetch(_) => Fetch::run(),
            Self::Carry(it) => it.run(),
            Self::StandIn(it) => it.run(),
        }
    }

    /// Whether it sees to it that a change that nobody confirmed goes back, should its watcher have
    /// been ended. Those that change the kernel do so by themselves.
    fn looks_after_what_waits(&self) -> bool {
        !self.changes_the_kernel()
            && !matches!(
                self,
                Self::Vantage(_)
                    | Self::LendHand(_)
                    | Self::Fetch(_)
                    | Self::Carry(_)
                    | Self::Demo(_)
                    | Self::StandIn(_)
            )
    }

    /// Whether it changes what the kernel does, and nothing else that needs rights.
    fn changes_the_kernel(&self) -> bool {
        if let Self::Fleet(it) = self {
            return it.changes_the_kernel();
        }
        matches!(
            self,
            Self::Enforce(_)
                | Self::Confirm(_)
                | Self::Revert(_)
                | Self::Release(_)
                | Self::Cut(_)
                | Self::Shut(_)
                | Self::Posture(_)
                | Self::Attend(_)
                | Self::Programs(_)
                | Self::StandBy(_)
                | Self::SeeOut(_)
        )
    }
}

impl Cli {
    /// The line that `words` are, the program's name in front.
    ///
    /// # Errors
    /// What is wrong with it, in clap's words; or a text to show, such as the help.
    pub fn read(words: impl IntoIterator<Item = OsString>) -> Result<Self, clap::Error> {
        let mut command = command();
        let matches = command
            .try_get_matches_from_mut(words)
            .map_err(|error| explained(error, &mut command))?;
        let cli = Self::from_arg_matches(&matches)?;
        // Ahead of the command's name nobody knows yet what it can write.
        let (named, formats) = formats_of(&matches);
        if !formats.contains(&cli.global.format) {
            let common: Vec<String> = formats.iter().map(|it| it.word()).collect();
            return Err(command.error(
                ErrorKind::InvalidValue,
                format!(
                    "`{named}` cannot be written as {}\n  [possible values: {}]",
                    cli.global.format.word(),
                    common.join(", ")
                ),
            ));
        }
        Ok(cli)
    }
}

/// Every command with its options.
pub fn command() -> clap::Command {
    let names: Vec<String> =
        Cli::command().get_subcommands().map(|it| it.get_name().to_owned()).collect();
    names.iter().fold(Cli::command(), |command, name| {
        command.mut_subcommand(name, |part| with_examples(with_formats(part, name), name))
    })
}

/// The command with its examples below its help.
fn with_examples(command: clap::Command, path: &str) -> clap::Command {
    let command = command.mut_subcommands(|part| {
        let path = format!("{path} {}", part.get_name());
        with_examples(part, &path)
    });
    match examples(path) {
        [] => command,
        lines => command.after_help(format!("For example:\n  {}", lines.join("\n  "))),
    }
}

/// Runs the command.
///
/// # Errors
/// Why it could not do its work.
pub fn run(cli: &Cli, screen: &Screen) -> Result<Output, Failure> {
    let Cli { global, command } = cli;
    let machine: &dyn Machine = &Here;
    let home = &Home::of(&global.state, &global.boot_note)
        .with_policy(&global.policy, global.host.as_deref());
    if matches!(command, Command::StandBy(_) | Command::SeeOut(_)) {
        tipstaff_linux::run_before_others();
    }
    let runs_another = matches!(command, Command::Posture(it) if it.runs_a_command());
    if command.changes_the_kernel() && !runs_another {
        let starts_others = matches!(command, Command::Attend(_) | Command::Fleet(_));
        tipstaff_linux::keep_only_what_enforcing_needs(starts_others).map_err(|source| {
            Failure::System {
                message: format!("cannot give up rights that are not needed: {source}"),
                help: Vec::new(),
            }
        })?;
    }
    if command.looks_after_what_waits() {
        transaction::look_after(machine, home);
    }
    command.run(&Context { global, screen, machine, home, typed })
}

/// Runs a line as if it had been typed.
fn typed(words: &[OsString], screen: &Screen) -> Result<Output, Failure> {
    let cli = Cli::read(words.iter().cloned())
        .map_err(|error| Failure::usage(error.to_string(), "the demo asks otherwise"))?;
    run(&cli, screen)
}
