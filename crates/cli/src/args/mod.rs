//! The command line. No clap type leaves this module: each command is turned into a request.

mod edit;

use crate::app::compare::{Operand, Place};
use crate::app::reach::{Request, Vantage};
use crate::app::{
    Failure, Loaded, ask, asked, compare, enforce, load, load_for_kernel, reach, review, show,
    status,
};
use crate::demo;
use crate::exit::Exit;
use crate::render::{self, ColorWhen, Format, Screen};
use clap::{Args, Parser, Subcommand, ValueEnum};
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

/// Options of every command.
#[derive(Debug, Args)]
pub struct Global {
    /// The policy file
    #[arg(
        long,
        global = true,
        env = "TIPSTAFF_POLICY",
        default_value = "/etc/tipstaff/policy.toml",
        value_name = "PATH"
    )]
    pub policy: PathBuf,
    /// The host of the policy; this machine, or the only one, if left out
    #[arg(long, global = true, value_name = "NAME")]
    pub host: Option<String>,
    /// How results are written
    #[arg(long, global = true, value_enum, default_value = "text")]
    pub format: Format,
    /// When colours are used
    #[arg(long, global = true, value_enum, default_value = "auto")]
    pub color: ColorWhen,
}

/// What can be done.
#[derive(Debug, Subcommand)]
pub enum Command {
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
    /// Put the policy's rules into the kernel
    Enforce(Enforce),
    /// Take our rules out of the kernel
    Release,
    /// Compare the kernel with the policy, and show what each rule has taken
    Status,
    /// Show which listening ports can be reached, from where, and who decides
    Reach(Reach),
    /// Walk through the whole example in a sealed lab; needs no privileges
    Demo(Demo),
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

/// Options of `enforce`.
#[derive(Debug, Args)]
pub struct Enforce {
    /// Enforce now, and stay so until the next change
    #[arg(long)]
    keep: bool,
}

/// Options of `reach`.
#[derive(Debug, Args)]
pub struct Reach {
    /// Places or addresses to ask about; every place of the policy, and anywhere, if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1..)]
    from: Vec<String>,
    /// Send real probes for a place from a network namespace: PLACE=netns:PATH
    #[arg(long, value_name = "PLACE=netns:PATH", value_parser = Vantage::parse)]
    vantage: Vec<Vantage>,
    /// How many seconds a probe waits for an answer
    #[arg(long, value_name = "SECONDS", default_value = "1", value_parser = seconds)]
    patience: Duration,
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
    match &cli.command {
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
        Command::Enforce(options) => {
            let loaded = load_for_kernel(&global.policy, host)?;
            enforce_command(options, &loaded, format, screen)
        }
        Command::Release => {
            let report = enforce::release()?;
            Ok(Output::fine(render::report(format, screen, &report, render::released)))
        }
        Command::Status => {
            let loaded = policy()?;
            let busy = render::progress("comparing");
            let report = status::report(&loaded)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::status), exit })
        }
        Command::Reach(options) => {
            let request = Request {
                from: &options.from,
                vantages: &options.vantage,
                patience: options.patience,
            };
            let loaded = policy()?;
            let busy = render::progress("probing");
            let report = reach::report(&loaded, &request)?;
            drop(busy);
            let exit = report.exit();
            Ok(Output { text: render::report(format, screen, &report, render::reach), exit })
        }
        Command::Demo(options) => demo::run(options.sealed, format, global.color),
        Command::StandIn(options) => demo::stand_in(&options.listen),
    }
}

fn enforce_command(
    options: &Enforce,
    loaded: &Loaded,
    format: Format,
    screen: &Screen,
) -> Result<Output, Failure> {
    if !options.keep {
        return Err(Failure::usage(
            "nothing was enforced: without --keep, a change would have to be confirmed, and this \
             version cannot wait for that yet",
            format!("to enforce the policy of `{}` now, add --keep", loaded.plan.host),
        ));
    }
    let busy = render::progress("enforcing");
    let report = enforce::enforce(loaded)?;
    drop(busy);
    Ok(Output::fine(render::report(format, screen, &report, render::enforced)))
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
