//! The command line. No clap type leaves this module: each command is turned into a request.

mod complete;
mod edit;
mod options;

use crate::app::compare::Place;
use crate::app::effect::Effects;
use crate::app::reach::Request;
use crate::app::{
    Failure, ask, asked, compare, cut, docket, draft, kernel, load, load_for_kernel, load_here,
    programs, reach, rehearse, report, review, show, status, transaction, vantage,
};
use crate::demo;
use crate::exit::Exit;
use crate::render::{self, ColorWhen, Format, Screen};
use crate::store::Home;
use clap::{Args, Parser, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use options::{
    Ask, Compare, Confirm, Cut, Demo, DirectionWord, DocketCommand, DocketPart, Draft, Enforce,
    Programs, Reach, Rehearse, ReportOptions, Revert, Review, StandBy, StandIn, Status, Staying,
    VantageEnd,
};
use std::path::PathBuf;

/// Where the policy is if nothing else is said.
const POLICY: &str = "/etc/tipstaff/policy.toml";
/// What `--version` says.
const VERSION: &str = concat!(
    env!("CARGO_PKG_VERSION"),
    "\ncommit ",
    env!("TIPSTAFF_COMMIT"),
    "\ntarget ",
    env!("TIPSTAFF_TARGET")
);

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
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Where the help puts the options that every command has.
const COMMON: &str = "Options of every command";

/// Options of every command.
#[derive(Debug, Args)]
pub struct Global {
    /// The policy file
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_POLICY",
        default_value = POLICY,
        value_name = "PATH"
    )]
    pub policy: PathBuf,
    /// The host of the policy; this machine, or the only one, if left out
    #[arg(long, global = true, help_heading = COMMON, value_name = "NAME", add = Names::new(complete::hosts))]
    pub host: Option<String>,
    /// Where the docket and the policies it refers to are kept
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_STATE",
        default_value = "/var/lib/tipstaff",
        value_name = "PATH"
    )]
    pub state: PathBuf,
    /// The note from which a boot knows without the docket that a policy was confirmed, and where the
    /// remote shell listens
    #[arg(
        long,
        global = true, help_heading = COMMON,
        env = "TIPSTAFF_BOOT_NOTE",
        default_value = "/etc/tipstaff/boot-note.json",
        value_name = "PATH"
    )]
    pub boot_note: PathBuf,
    /// How results are written
    #[arg(long, global = true, help_heading = COMMON, value_enum, default_value = "text")]
    pub format: Format,
    /// When colours are used
    #[arg(long, global = true, help_heading = COMMON, value_enum, default_value = "auto")]
    pub color: ColorWhen,
}

/// What can be done.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Draft a first policy from what listens on this machine and who is connected now
    Draft(Draft),
    /// Add, change, move, pause and remove rules; each change tells its exact effect
    #[command(subcommand)]
    Rule(Box<edit::Rule>),
    /// Add, change and remove places
    #[command(subcommand)]
    Place(edit::PlaceCommand),
    /// Add, change, remove and find services
    #[command(subcommand)]
    Service(edit::ServiceCommand),
    /// Set what happens where no rule decides
    Defaults(edit::Defaults),
    /// Show the host's decision list as it will be enforced
    Show,
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
    Release(Staying),
    /// End connections that began before and that the policy would not admit any more
    Cut(Cut),
    /// Show what was enforced on this host, when, by whom, and what became of it
    Docket(DocketCommand),
    /// Compare the kernel with the policy, and show what each rule has taken
    Status(Status),
    /// Show the programs that rules in force name: their files, their processes, whether they are known
    Programs(Programs),
    /// Show which listening ports can be reached, from where, and who decides
    Reach(Reach),
    /// Make a report to hand over: what can be reached from where, the decisions, the findings, how it was checked
    Report(ReportOptions),
    /// The far end of `reach --vantage`: sends the probes that the near end asks for over standard input
    Vantage(VantageEnd),
    /// Try every port in a sealed lab with real packets, from everybody whom the policy tells apart; needs no privileges
    Rehearse(Rehearse),
    /// Walk through the whole example in a sealed lab; needs no privileges
    Demo(Demo),
    /// The part of a rehearsal that runs inside the lab
    #[command(hide = true)]
    LendHand,
    /// Watches over a change that waits to be confirmed
    #[command(hide = true)]
    StandBy(StandBy),
    /// One of the demo's listening programs
    #[command(hide = true)]
    StandIn(StandIn),
}

/// What a command gives back.
pub struct Output {
    /// For standard output.
    pub text: String,
    /// How it ended.
    pub exit: Exit,
}

impl Output {
    fn fine(text: String) -> Self {
        Self { text, exit: Exit::Fine }
    }
}

/// Runs the command.
///
/// # Errors
/// Why it could not do its work.
pub fn dispatch(cli: &Cli, screen: &Screen) -> Result<Output, Failure> {
    let global = &cli.global;
    let host = global.host.as_deref();
    let format = global.format;
    let policy = || load(&global.policy, host);
    let here = |live: bool| if live { load_here(&global.policy, host) } else { policy() };
    let home = &Home::of(&global.state, &global.boot_note).with_policy(&global.policy, host);
    if !format.is_common() && !matches!(cli.command, Command::Report(_)) {
        return Err(Failure::usage(
            "only `report` is written as html, csv or markdown",
            "use --format text or --format json",
        ));
    }
    if matches!(cli.command, Command::StandBy(_)) {
        tipstaff_linux::run_before_others();
    }
    if cli.command.changes_the_kernel() {
        tipstaff_linux::keep_only_what_enforcing_needs().map_err(|source| Failure::System {
            message: format!("cannot give up rights that are not needed: {source}"),
            help: Vec::new(),
        })?;
    }
    if cli.command.looks_after_what_waits() {
        transaction::look_after(home);
    }
    match &cli.command {
        Command::Draft(options) => {
            let report = draft::report(host, options.programs)?;
            Ok(Output::fine(render::report(format, screen, &report, |it, _| it.policy.clone())))
        }
        Command::Show => {
            let report = show::report(&policy()?);
            Ok(Output::fine(render::report(format, screen, &report, render::show)))
        }
        Command::Rule(command) => edit::rule(global, screen, command),
        Command::Place(command) => edit::place(global, screen, command),
        Command::Service(command) => edit::service(global, screen, command),
        Command::Defaults(options) => edit::defaults(global, screen, options),
        Command::Review(options) => {
            if let Some(code) = &options.explain {
                let report = review::explain(code)?;
                return Ok(Output::fine(render::report(
                    format,
                    screen,
                    &report,
                    render::explanation,
                )));
            }
            let loaded = here(options.live)?;
            let busy = render::progress("reviewing");
            let report = review::report(&loaded, options.live)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::review), exit })
        }
        Command::Compare(options) => {
            let place = Place { policy: &global.policy, host };
            let busy = render::progress("comparing");
            let report =
                compare::report(&place, &options.first, options.second.as_ref(), options.all)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::compare), exit })
        }
        Command::Ask(options) if options.traffic.is_none() => {
            let question = match (&options.who, &options.what, &options.why) {
                (Some(traffic), ..) => asked::Question::Who(traffic.clone()),
                (_, Some(sender), _) => asked::Question::What(sender.clone()),
                (.., rule) => asked::Question::Why(rule.clone().unwrap_or_default()),
            };
            let report = asked::report(&policy()?, &question, options.direction.direction())?;
            Ok(Output::fine(render::report(format, screen, &report, render::asked)))
        }
        Command::Ask(options) => {
            let question = ask::Question {
                from: options.from.clone(),
                to: options.to.clone(),
                traffic: options.traffic.clone().unwrap_or_default(),
                via: options.via.clone(),
                out_via: options.out_via.clone(),
                program: options.program.clone(),
                direction: options.direction.direction(),
            };
            let report = ask::report(&policy()?, &question)?;
            Ok(Output::fine(render::report(format, screen, &report, render::ask)))
        }
        Command::Enforce(options) if options.boot => {
            let boot = if options.if_gone { transaction::boot_if_gone } else { transaction::boot };
            let report = boot(home)?;
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::booted), exit })
        }
        Command::Enforce(options) => {
            kernel::must_be_new_enough()?;
            let loaded = load_for_kernel(&global.policy, host)?;
            let busy = render::progress("enforcing");
            let tell = |effects: &Effects| {
                busy.clear();
                // Whoever no longer reads it wants it done all the same.
                let _ = render::print(&render::will_change(effects, screen));
            };
            let how = transaction::Options {
                dry: options.dry_run,
                without_programs: options.without_programs,
                even_if_locked_out: options.even_if_locked_out,
                not_this_machine: options.not_this_machine,
                all: options.all,
                boot_memory: options.boot_memory,
                tell: (format == Format::Text).then_some(&tell),
                ..options.staying.options(home)
            };
            let mut report = transaction::enforce(&loaded, &how)?;
            if options.cut {
                report.living = Some(cut::report(true)?);
            }
            drop(busy);
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Confirm(options) => {
            let report = transaction::confirm(home, options.even_if_locked_out)?;
            Ok(Output::fine(render::report(format, screen, &report, render::settled)))
        }
        Command::Revert(options) => {
            if options.id.is_none()
                && let Some(report) = transaction::revert_pending(home)?
            {
                return Ok(Output::fine(render::report(format, screen, &report, render::settled)));
            }
            let how = transaction::Options {
                even_if_locked_out: options.even_if_locked_out,
                ..options.staying.options(home)
            };
            let report = transaction::revert(options.id, &how)?;
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Release(staying) => {
            let report = transaction::release(&staying.options(home))?;
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Cut(options) => {
            let report = cut::report(!options.dry_run)?;
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::cut), exit })
        }
        Command::Docket(command) => docket_command(command, global, home, screen),
        Command::StandBy(options) => {
            transaction::stand_by(home, options.id)?;
            Ok(Output::fine(String::new()))
        }
        Command::Status(options) if options.kernel => {
            let loaded = here(true)?;
            let busy = render::progress("trying the kernel");
            let report = kernel::report(&loaded)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::kernel), exit })
        }
        Command::Status(_) => {
            let loaded = here(true)?;
            let busy = render::progress("comparing");
            let report = status::report(&loaded, home)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::status), exit })
        }
        Command::Programs(options) if options.watch => {
            programs::watch(home, |report| {
                let text = render::report(format, screen, report, render::programs);
                render::print(&text)
            })?;
            Ok(Output::fine(String::new()))
        }
        Command::Programs(options) => {
            let report = match options.refresh {
                true => programs::refresh(home)?,
                false => programs::report()?,
            };
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::programs), exit })
        }
        Command::Reach(options) => {
            let request = Request {
                from: &options.from,
                vantages: &options.looking.vantages(),
                patience: options.looking.patience,
            };
            let loaded = here(true)?;
            let busy = render::progress("probing");
            let report = reach::report(&loaded, &request)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::reach), exit })
        }
        Command::Rehearse(options) => {
            let request = rehearse::Request {
                live: options.live,
                from: &options.from,
                traffic: options.traffic.as_deref(),
            };
            let loaded = here(options.live)?;
            let bar = render::Bar::new();
            let report = rehearse::report(&loaded, &request, &|tried, all| bar.show(tried, all))?;
            drop(bar);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::rehearsed), exit })
        }
        Command::Report(options) => {
            let request = report::Request {
                live: options.live,
                vantages: &options.looking.vantages(),
                patience: options.looking.patience,
            };
            if !request.live && !request.vantages.is_empty() {
                return Err(Failure::usage(
                    "a vantage looks at this machine",
                    "add --live if the host of the report is this machine",
                ));
            }
            let loaded = here(options.live)?;
            let bar = render::Bar::new();
            let found = report::report(&loaded, &request, &|tried, all| bar.show(tried, all))?;
            drop(bar);
            let text = match format {
                Format::Html => render::page(&found),
                Format::Csv => render::csv(&found),
                Format::Markdown => render::markdown(&found),
                Format::Text | Format::Json => {
                    render::report(format, screen, &found, render::reported)
                }
            };
            Ok(Output { text, exit: found.exit() })
        }
        Command::Vantage(options) => {
            vantage::serve(std::io::stdin(), &mut std::io::stdout(), &options.vouched)?;
            Ok(Output::fine(String::new()))
        }
        Command::LendHand => rehearse::lend().map(|()| Output::fine(String::new())),
        Command::Demo(options) => demo::run(options.sealed, format, global.color),
        Command::StandIn(options) => demo::stand_in(&options.listen),
    }
}

fn docket_command(
    command: &DocketCommand,
    global: &Global,
    home: &Home,
    screen: &Screen,
) -> Result<Output, Failure> {
    let format = global.format;
    match &command.part {
        None => {
            let report = docket::list(home)?;
            Ok(Output::fine(render::report(format, screen, &report, render::docket)))
        }
        Some(DocketPart::Show { id }) => {
            let report = docket::show(home, *id)?;
            Ok(Output::fine(render::report(format, screen, &report, render::docket_entry)))
        }
        Some(DocketPart::Mend) => {
            let report = docket::mend(home)?;
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::mended), exit })
        }
        Some(DocketPart::Compare { id, other }) => {
            let first = docket::policy(home, *id)?;
            let second = match other {
                Some(other) => docket::policy(home, *other)?,
                None => load(&global.policy, global.host.as_deref())?,
            };
            let report = compare::between(&first, &second);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::compare), exit })
        }
    }
}

impl Command {
    /// Whether it sees to it that a change that nobody confirmed goes back, should its watcher have
    /// been ended. Those that change the kernel do so by themselves.
    fn looks_after_what_waits(&self) -> bool {
        !self.changes_the_kernel()
            && !matches!(self, Self::Vantage(_) | Self::LendHand | Self::Demo(_) | Self::StandIn(_))
    }

    /// Whether it changes what the kernel does, and nothing else that needs rights.
    fn changes_the_kernel(&self) -> bool {
        matches!(
            self,
            Self::Enforce(_)
                | Self::Confirm(_)
                | Self::Revert(_)
                | Self::Release(_)
                | Self::Cut(_)
                | Self::Programs(_)
                | Self::StandBy(_)
        )
    }
}
