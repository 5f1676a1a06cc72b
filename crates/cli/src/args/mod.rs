//! The command line. No clap type leaves this module: each command is turned into a request.

mod edit;

use crate::app::compare::{Operand, Place};
use crate::app::effect::ChangeWords;
use crate::app::reach::{Request, Vantage};
use crate::app::{
    Failure, ask, asked, compare, cut, docket, draft, load, load_for_kernel, reach, rehearse,
    report, review, show, status, transaction, vantage,
};
use crate::demo;
use crate::exit::Exit;
use crate::render::{self, ColorWhen, Format, Screen};
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::io::BufReader;
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;
use tipstaff_core::space::Direction;

/// Who may reach which port of this host: written as a policy, enforced by the kernel, checked
/// from outside.
#[derive(Debug, Parser)]
#[command(
    name = "tipstaff",
    version,
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
        default_value = "/etc/tipstaff/policy.toml",
        value_name = "PATH"
    )]
    pub policy: PathBuf,
    /// The host of the policy; this machine, or the only one, if left out
    #[arg(long, global = true, help_heading = COMMON, value_name = "NAME")]
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
    Draft,
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
    Confirm,
    /// Go back to what was confirmed before, or to any earlier entry of the docket
    Revert(Revert),
    /// Take our rules out of the kernel; they come back by themselves unless confirmed
    Release(Staying),
    /// End connections that began before and that the policy would not admit any more
    Cut(Cut),
    /// Show what was enforced on this host, when, by whom, and what became of it
    Docket(DocketCommand),
    /// Compare the kernel with the policy, and show what each rule has taken
    Status,
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

/// Options of `ask`.
#[derive(Debug, Args)]
pub struct Ask {
    /// The sender's address
    #[arg(long, value_name = "ADDRESS")]
    from: Option<String>,
    /// The receiver's address; for inbound traffic the host's own if left out
    #[arg(long, value_name = "ADDRESS")]
    to: Option<String>,
    /// What is sent, such as 443/tcp, 53/udp or icmp (an echo request)
    #[arg(long, value_name = "TRAFFIC", required_unless_present_any = ["who", "what", "why"])]
    traffic: Option<String>,
    /// Instead: who can reach this traffic, such as 5432/tcp
    #[arg(long, value_name = "TRAFFIC", conflicts_with_all = ["from", "to", "traffic", "via", "what", "why"])]
    who: Option<String>,
    /// Instead: what this sender, or all of a place, can reach
    #[arg(long, value_name = "PLACE|ADDRESS", conflicts_with_all = ["from", "to", "traffic", "via", "why"])]
    what: Option<String>,
    /// Instead: what this rule still decides after those above it
    #[arg(long, value_name = "RULE", conflicts_with_all = ["from", "to", "traffic", "via"])]
    why: Option<String>,
    /// The interface it comes in by (outbound: goes out by), by role or name
    #[arg(long, value_name = "INTERFACE")]
    via: Option<String>,
    /// The interface a forwarded packet goes out by
    #[arg(long, value_name = "INTERFACE")]
    out_via: Option<String>,
    /// The program on this host that receives it (outbound: sends it), by absolute path
    #[arg(long, value_name = "PATH")]
    program: Option<String>,
    /// Which way it goes
    #[arg(long, value_enum, default_value = "inbound")]
    direction: DirectionWord,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum DirectionWord {
    Inbound,
    Outbound,
    Forwarded,
}

/// Options of `review`.
#[derive(Debug, Args)]
pub struct Review {
    /// Also look at what listens on this machine, and at the session you work in
    #[arg(long)]
    live: bool,
    /// Say what a kind of finding means
    #[arg(long, value_name = "CODE")]
    explain: Option<String>,
}

/// Options of `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// A policy (PATH or PATH@HOST), another host of this one (@HOST), `kernel`, or `committed`
    #[arg(value_name = "FIRST", value_parser = Operand::parse)]
    first: Operand,
    /// Likewise; the policy itself if left out
    #[arg(value_name = "SECOND", value_parser = Operand::parse)]
    second: Option<Operand>,
}

/// How long a change stays.
#[derive(Debug, Args)]
pub struct Staying {
    /// Stay so until the next change, without waiting to be confirmed
    #[arg(long)]
    keep: bool,
    /// Go back by itself unless `tipstaff confirm` comes within this time
    #[arg(long, value_name = "SECONDS", default_value = "60", value_parser = waiting)]
    confirm_within: Duration,
}

/// Options of `enforce`.
#[derive(Debug, Args)]
pub struct Enforce {
    #[command(flatten)]
    staying: Staying,
    /// Show what would change; change nothing
    #[arg(long)]
    dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    even_if_locked_out: bool,
    /// Also end connections that began before and that the policy would not admit
    #[arg(long, conflicts_with = "dry_run")]
    cut: bool,
    /// Load the last confirmed policy from the docket, as at boot
    #[arg(long, conflicts_with_all = ["dry_run", "keep", "even_if_locked_out", "cut"])]
    boot: bool,
}

/// Options of `revert`.
#[derive(Debug, Args)]
pub struct Revert {
    /// The entry of the docket; what was confirmed before the last if left out
    id: Option<u64>,
    #[command(flatten)]
    staying: Staying,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    even_if_locked_out: bool,
}

/// Options of `cut`.
#[derive(Debug, Args)]
pub struct Cut {
    /// Only list them
    #[arg(long)]
    dry_run: bool,
}

/// Options of `docket`.
#[derive(Debug, Args)]
pub struct DocketCommand {
    #[command(subcommand)]
    part: Option<DocketPart>,
}

/// What the docket can be asked.
#[derive(Debug, Subcommand)]
pub enum DocketPart {
    /// Show one entry, with the policy as it was
    Show {
        /// Its number
        id: u64,
    },
    /// Show which packets two entries treat differently, or an entry and the policy
    Compare {
        /// The one entry
        id: u64,
        /// The other one; the policy if left out
        other: Option<u64>,
    },
}

/// Options of the process that watches over a change.
#[derive(Debug, Args)]
pub struct StandBy {
    /// The entry
    id: u64,
}

/// Options of `reach`.
#[derive(Debug, Args)]
pub struct Reach {
    /// Places or addresses to ask about; every place of the policy, and anywhere, if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1..)]
    from: Vec<String>,
    #[command(flatten)]
    looking: Looking,
}

/// From where a host is looked at.
#[derive(Debug, Args)]
pub struct Looking {
    /// Send real probes from a machine at a place: PLACE=ssh://[USER@]HOST[:PORT], or from a network namespace: PLACE=netns:PATH
    #[arg(long, value_name = "PLACE=WAY", value_parser = Vantage::parse)]
    vantage: Vec<Vantage>,
    /// Likewise, by a command that gives a byte stream to `tipstaff vantage` there
    #[arg(long, value_name = "PLACE=COMMAND", value_parser = Vantage::parse_command)]
    vantage_command: Vec<Vantage>,
    /// How many seconds a probe waits for an answer
    #[arg(long, value_name = "SECONDS", default_value = "1", value_parser = seconds)]
    patience: Duration,
}

impl Looking {
    fn vantages(&self) -> Vec<Vantage> {
        self.vantage.iter().chain(&self.vantage_command).cloned().collect()
    }
}

/// Options of `report`.
#[derive(Debug, Args)]
pub struct ReportOptions {
    /// The host is this machine: also look at what listens on it, and try it
    #[arg(long)]
    live: bool,
    #[command(flatten)]
    looking: Looking,
}

/// Options of `vantage`.
#[derive(Debug, Args)]
pub struct VantageEnd {
    /// An address of the asking host that may be probed although nothing else shows that it is its own
    #[arg(long = "for", value_name = "ADDRESS")]
    vouched: Vec<IpAddr>,
}

/// Options of `rehearse`.
#[derive(Debug, Args)]
pub struct Rehearse {
    /// Try a copy of this machine as it stands, with all its rules and listeners, rather than the policy
    #[arg(long)]
    live: bool,
    /// Places or addresses to try from; everybody if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1..)]
    from: Vec<String>,
    /// The traffic to try, such as 9100/tcp; every TCP and UDP port and ICMP type if left out
    #[arg(long, value_name = "TRAFFIC")]
    traffic: Option<String>,
}

/// Options of `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Set by the demo itself when it runs inside the lab
    #[arg(long, hide = true)]
    sealed: bool,
}

/// Options of a stand-in program.
#[derive(Debug, Args)]
pub struct StandIn {
    /// Where to listen: tcp:PORT, udp:PORT (both IP versions), tcp4:PORT, ...
    listen: Vec<String>,
}

fn waiting(text: &str) -> Result<Duration, String> {
    text.parse()
        .ok()
        .filter(|seconds| (1..=86_400).contains(seconds))
        .map(Duration::from_secs)
        .ok_or_else(|| "expected a whole number of seconds from 1 to 86400".into())
}

fn seconds(text: &str) -> Result<Duration, String> {
    text.parse()
        .ok()
        .filter(|seconds| (0.01..=60.0).contains(seconds))
        .map(Duration::from_secs_f64)
        .ok_or_else(|| "expected a number of seconds from 0.01 to 60".into())
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
    if !format.is_common() && !matches!(cli.command, Command::Report(_)) {
        return Err(Failure::usage(
            "only `report` is written as html, csv or markdown",
            "use --format text or --format json",
        ));
    }
    if cli.command.changes_the_kernel() {
        tipstaff_linux::keep_only_what_enforcing_needs().map_err(|source| Failure::System {
            message: format!("cannot give up rights that are not needed: {source}"),
            help: Vec::new(),
        })?;
    }
    match &cli.command {
        Command::Draft => {
            let report = draft::report(host)?;
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
            let loaded = policy()?;
            let busy = render::progress("reviewing");
            let report = review::report(&loaded, options.live)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::review), exit })
        }
        Command::Compare(options) => {
            let place = Place { policy: &global.policy, host };
            let busy = render::progress("comparing");
            let report = compare::report(&place, &options.first, options.second.as_ref())?;
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
            let report = transaction::boot(&global.state)?;
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::booted), exit })
        }
        Command::Enforce(options) => {
            let loaded = load_for_kernel(&global.policy, host)?;
            let busy = render::progress("enforcing");
            let tell = |changes: &[ChangeWords]| {
                busy.clear();
                // Whoever no longer reads it wants it done all the same.
                let _ = render::print(&render::will_change(changes, screen));
            };
            let how = transaction::Options {
                dry: options.dry_run,
                even_if_locked_out: options.even_if_locked_out,
                tell: (format == Format::Text).then_some(&tell),
                ..options.staying.options(global)
            };
            let mut report = transaction::enforce(&loaded, &how)?;
            if options.cut {
                report.living = Some(cut::report(&loaded, true)?);
            }
            drop(busy);
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Confirm => {
            let report = transaction::confirm(&global.state)?;
            Ok(Output::fine(render::report(format, screen, &report, render::settled)))
        }
        Command::Revert(options) => {
            if options.id.is_none()
                && let Some(report) = transaction::revert_pending(&global.state)?
            {
                return Ok(Output::fine(render::report(format, screen, &report, render::settled)));
            }
            let how = transaction::Options {
                even_if_locked_out: options.even_if_locked_out,
                ..options.staying.options(global)
            };
            let report = transaction::revert(options.id, &how)?;
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Release(staying) => {
            let report = transaction::release(&staying.options(global))?;
            Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
        }
        Command::Cut(options) => {
            let loaded = load_for_kernel(&global.policy, host)?;
            let report = cut::report(&loaded, !options.dry_run)?;
            Ok(Output::fine(render::report(format, screen, &report, render::cut)))
        }
        Command::Docket(command) => docket_command(command, global, screen),
        Command::StandBy(options) => {
            transaction::stand_by(&global.state, options.id)?;
            Ok(Output::fine(String::new()))
        }
        Command::Status => {
            let loaded = policy()?;
            let busy = render::progress("comparing");
            let report = status::report(&loaded, &global.state)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::status), exit })
        }
        Command::Reach(options) => {
            let request = Request {
                from: &options.from,
                vantages: &options.looking.vantages(),
                patience: options.looking.patience,
            };
            let loaded = policy()?;
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
            let loaded = policy()?;
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
            let loaded = policy()?;
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
            let mut input = BufReader::new(std::io::stdin());
            vantage::serve(&mut input, &mut std::io::stdout(), &options.vouched)?;
            Ok(Output::fine(String::new()))
        }
        Command::LendHand => rehearse::lend().map(|()| Output::fine(String::new())),
        Command::Demo(options) => demo::run(options.sealed, format, global.color),
        Command::StandIn(options) => demo::stand_in(&options.listen),
    }
}

impl Staying {
    fn options<'g>(&self, global: &'g Global) -> transaction::Options<'g> {
        transaction::Options {
            state: &global.state,
            keep: self.keep,
            within: self.confirm_within,
            dry: false,
            even_if_locked_out: false,
            tell: None,
        }
    }
}

fn docket_command(
    command: &DocketCommand,
    global: &Global,
    screen: &Screen,
) -> Result<Output, Failure> {
    let format = global.format;
    match &command.part {
        None => {
            let report = docket::list(&global.state)?;
            Ok(Output::fine(render::report(format, screen, &report, render::docket)))
        }
        Some(DocketPart::Show { id }) => {
            let report = docket::show(&global.state, *id)?;
            Ok(Output::fine(render::report(format, screen, &report, render::docket_entry)))
        }
        Some(DocketPart::Compare { id, other }) => {
            let first = docket::policy(&global.state, *id)?;
            let second = match other {
                Some(other) => docket::policy(&global.state, *other)?,
                None => load(&global.policy, global.host.as_deref())?,
            };
            let report = compare::between(&first, &second);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::compare), exit })
        }
    }
}

impl Command {
    /// Whether it changes what the kernel does, and nothing else that needs rights.
    fn changes_the_kernel(&self) -> bool {
        matches!(
            self,
            Self::Enforce(_)
                | Self::Confirm
                | Self::Revert(_)
                | Self::Release(_)
                | Self::Cut(_)
                | Self::StandBy(_)
        )
    }
}

impl DirectionWord {
    fn direction(self) -> Direction {
        match self {
            Self::Inbound => Direction::Inbound,
            Self::Outbound => Direction::Outbound,
            Self::Forwarded => Direction::Forwarded,
        }
    }
}
