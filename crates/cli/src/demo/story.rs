//! The story: the loop that administrators walk, told so that a newcomer can follow.

use super::changes::{Change, Sight, changes, sights};
use super::teller::Teller;
use super::turned_away::turned_away;
use super::words::{
    Asked, CHANGED, CHECK, CLAIMS, Claim, EDITED, EDITS, END, INHERITED_POLICY, LISTENS, MAIL_HOST,
    MENDED_POLICY, MISTAKES, QUESTIONS, SAME_CHECK, TITLE, WORLD,
};
use super::world::{self, HOSTS, MAIL, World};
use crate::commands::{Output, Typed};
use crate::render::{self, Cell, Format, Screen, Style, Table};
use serde::Serialize;
use std::ffi::OsString;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use tipstaff_app::Outcome;
use tipstaff_app::reach::{Report, Request, Vantage, Way};
use tipstaff_app::store::Home;
use tipstaff_app::{
    Failure, Loaded, ask, docket, loaded, reach, rehearse, review, show, status, transaction,
};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::Source;
use tipstaff_core::space::Direction;
use tipstaff_linux::probe::{Attempt, attempt};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{Here, Machine};

const INHERITED: (&str, &str) =
    ("demo/inherited.toml", include_str!("../../../../demo/inherited.toml"));
const MENDED: (&str, &str) = ("demo/mended.toml", include_str!("../../../../demo/mended.toml"));
/// Within a lab an answer takes well under a millisecond, even where much else is going on.
const PATIENCE: Duration = Duration::from_millis(600);

/// Bench's addresses, by which mail would leave.
const BENCH: [&str; 2] = ["10.44.8.30", "fd44:8::30"];

/// Everything that the demo found, for programs.
#[derive(Serialize)]
struct Findings {
    before: Vec<Report>,
    after: Vec<Report>,
    changes: Vec<Change>,
    /// Claims of the story that did not come true; empty if all is well.
    broken: Vec<String>,
}

/// Tells the story. In the JSON format, only what was found is written, at the end.
///
/// # Errors
/// [`Failure`] if the lab cannot be built or the kernel refuses.
pub fn tell(format: Format, screen: &Screen, typed: Typed) -> Result<Output, Failure> {
    let teller = Teller { screen: *screen, silent: format == Format::Json, typed };
    teller.opening(TITLE, WORLD);
    let inherited = Policies::read(INHERITED)?;
    let world = World::build(&inherited.plans())?;
    let desk = world::desk()?;

    teller.chapter("1. What listens", LISTENS);
    for host in HOSTS {
        teller.listeners(&world, host)?;
    }

    teller.chapter("2. The inherited policy", INHERITED_POLICY);
    teller.command("--host sluice show");
    teller.say(&render::show(&show::report(inherited.of("sluice")), screen));

    teller.chapter("3. Enforce it, and check from outside", CHECK);
    let before = teller.enforce_and_check(&world, &inherited, &desk)?;

    teller.chapter("4. The mistakes, seen", MISTAKES);
    teller.command("--host sluice review --live");
    let review =
        world.node("sluice").run(|| review::report(&Here, inherited.of("sluice"), true))??;
    teller.say(&format!("{}\n", render::review(&review, screen)));
    for question in QUESTIONS {
        teller.ask(&world, &inherited, &question)?;
    }

    teller.chapter("5. Mend it, one change at a time", EDITS);
    let mut unlike = teller.edit(&desk)?;

    teller.chapter("6. The mended policy, rehearsed", MENDED_POLICY);
    let mended = Policies::read(MENDED)?;
    teller.command("--host granary rehearse");
    let everything =
        rehearse::Request { live: false, from: &[], traffic: None, quick: false, instead: None };
    let bar = render::Bar::new();
    let rehearsal = rehearse::report(&Here, mended.of("granary"), &everything, &|tried, all| {
        bar.show(tried, all);
    })?;
    drop(bar);
    teller.say(&render::rehearsed(&rehearsal, screen));

    teller.chapter("7. Enforced, and the same check", SAME_CHECK);
    let after = teller.enforce_and_check(&world, &mended, &desk)?;
    teller.say("\n");
    teller.command("docket");
    let kept = || docket::list(&home(&desk, "sluice"));
    let list = world.node("sluice").run(kept)??;
    teller.say(&format!("{}\n", render::docket(&list, screen)));
    teller.command("--host sluice status");
    let look = || status::report(&Here, mended.of("sluice"), &home(&desk, "sluice"));
    let status = world.node("sluice").run(look)??;
    teller.say(&format!("{}\n", render::status(&status, screen)));
    teller.command("--host sluice callers --denied --by sender");
    let came = turned_away(&world, mended.of("sluice"), "sluice")?;
    teller.say(&render::callers(&came, screen));

    let changes = changes(&before.sights, &after.sights);
    teller.chapter("8. What changed, seen from outside", CHANGED);
    teller.changes(&changes);
    let mut broken = broken(&before, &after, status.outcome());
    broken.append(&mut unlike);
    if rehearsal.disagreements > 0 {
        broken.push(format!("{} packets of the rehearsal", rehearsal.disagreements));
    }
    teller.closing(&broken);

    let exit = if broken.is_empty() { Outcome::Fine } else { Outcome::Found };
    let (before, after) = (before.reports, after.reports);
    let findings = Findings { before, after, changes, broken };
    // For people it has all been told by now.
    let text = render::report(format, screen, &findings, |_, _| String::new());
    Ok(Output { text, outcome: exit })
}

/// One policy text, worked out for every host.
struct Policies(Vec<Loaded>);

impl Policies {
    fn read((name, text): (&str, &str)) -> Result<Self, Failure> {
        let source = Source::new(name, text);
        HOSTS
            .iter()
            .map(|host| loaded(name, vec![source.clone()], Some(host)))
            .collect::<Result<_, _>>()
            .map(Self)
    }

    fn plans(&self) -> Vec<&HostPlan> {
        self.0.iter().map(|loaded| &loaded.plan).collect()
    }

    fn of(&self, host: &str) -> &Loaded {
        let found = self.0.iter().find(|loaded| loaded.plan.host == host);
        found.unwrap_or_else(|| unreachable!("the demo's policies have a host `{host}`"))
    }
}

/// What a check of all hosts found.
struct Check {
    reports: Vec<Report>,
    sights: Vec<Sight>,
}

/// Where the docket of the calling thread's machine is kept.
fn home(desk: &Path, host: &str) -> Home {
    Home::of(&desk.join(host), &desk.join("boot-note.json"))
}

impl Teller {
    fn listeners(&self, world: &World, host: &str) -> Result<(), Failure> {
        let here: &dyn Machine = &Here;
        let found = world.node(host).run(|| here.listeners())??.found;
        let mut table = Table::new([host, "program", "listens on"]);
        for listener in &found {
            let program = listener.owner.as_ref().and_then(|owner| owner.program.as_ref());
            let versions = match (listener.dual, listener.address.is_ipv4()) {
                (true, _) => "IPv4 and IPv6",
                (false, true) => "IPv4 only",
                (false, false) => "IPv6 only",
            };
            table.row(vec![
                Cell::new(
                    format!("{}/{}", listener.port, listener.protocol.as_str()),
                    Style::Strong,
                ),
                Cell::plain(program.map_or("unknown".into(), |it| it.display().to_string())),
                Cell::plain(versions),
            ]);
        }
        self.say(&format!("{}\n", table.render(&self.screen)));
        Ok(())
    }

    fn enforce_and_check(
        &self,
        world: &World,
        policies: &Policies,
        desk: &Path,
    ) -> Result<Check, Failure> {
        for host in HOSTS {
            self.command(&format!("--host {host} enforce --keep"));
            // Whose session this is has nothing to do with the machines of the lab.
            let enforce = || {
                let options = transaction::Options {
                    machine: &Here,
                    home: &home(desk, host),
                    keep: true,
                    within: Duration::ZERO,
                    dry: false,
                    without_programs: false,
                    even_if_locked_out: true,
                    not_this_machine: false,
                    all: false,
                    log_for: None,
                    posture: None,
                    boot_memory: transaction::FOR_A_BOOT,
                    tell: None,
                };
                transaction::enforce(policies.of(host), &options)
            };
            let report = world.node(host).run(enforce)??;
            self.say(&format!("{}\n", render::enforced(&report, &self.screen)));
        }
        let mut check = Check { reports: Vec::new(), sights: Vec::new() };
        for host in HOSTS {
            self.say("\n");
            self.command(&format!("--host {host} reach --vantage ..."));
            let request =
                Request { from: &[], vantages: &vantages(world, host), patience: PATIENCE };
            let report =
                world.node(host).run(|| reach::report(&Here, policies.of(host), &request))??;
            self.say(&render::reach(&report, &self.screen));
            check.sights.extend(sights(&report));
            check.reports.push(report);
        }
        self.say("\nAnd outbound, from bench to a mail server among the strangers:\n");
        for sight in world.node("bench").run(mail)?? {
            self.say(&format!("  25/tcp over {}: {}\n", sight.version(), sight.met));
            check.sights.push(sight);
        }
        Ok(check)
    }

    /// Changes a copy of the inherited policy until it is, for sluice, the mended one. Gives what
    /// is not as told.
    fn edit(&self, desk: &Path) -> Result<Vec<String>, Failure> {
        let [own, mended] = ["policy.toml", "mended.toml"].map(|name| desk.join(name));
        for (path, text) in [(&own, INHERITED.1), (&mended, MENDED.1)] {
            std::fs::write(path, text).map_err(|source| Failure::System {
                message: format!("cannot write {}: {source}", path.display()),
                help: Vec::new(),
            })?;
        }
        let policy = own.display().to_string();
        let run = |words: &[&str]| -> Result<Output, Failure> {
            let given = ["tipstaff", "--policy", &policy, "--host", "sluice"];
            let words: Vec<OsString> = given.iter().chain(words).map(Into::into).collect();
            (self.typed)(&words, &self.screen)
        };
        for words in EDITED {
            let quoted: Vec<String> = words
                .iter()
                .map(|it| if it.contains(' ') { format!("\"{it}\"") } else { (*it).to_owned() })
                .collect();
            self.command(&format!("--host sluice {}", quoted.join(" ")));
            self.say(&format!("{}\n", run(words)?.text));
        }
        let mended = mended.display().to_string();
        self.command("--host sluice compare mended.toml");
        let compared = run(&["compare", &mended])?;
        self.say(&compared.text);
        let alike = compared.outcome == Outcome::Fine;
        Ok(if alike { Vec::new() } else { vec!["the edited policy is not the mended one".into()] })
    }

    fn ask(&self, world: &World, policies: &Policies, question: &Asked) -> Result<(), Failure> {
        let lines = render::wrap(question.text, self.screen.width.min(100)).join("\n");
        self.say(&format!("{lines}\n"));
        self.command(&format!(
            "--host {} ask {}--from {} --traffic {}",
            question.host,
            if question.live { "--live " } else { "" },
            question.from,
            question.traffic
        ));
        let asked = ask::Question {
            from: Some(question.from.into()),
            to: None,
            traffic: question.traffic.into(),
            ingress: None,
            egress: None,
            source_port: None,
            published: None,
            state: None,
            program: None,
            user: None,
            direction: Direction::Inbound,
        };
        let here = question.live.then_some(&Here as &dyn Machine);
        let ask = || ask::report(policies.of(question.host), &asked, here);
        let report = world.node(question.host).run(ask)??;
        self.say(&format!("{}\n", render::ask(&report, &self.screen)));
        Ok(())
    }

    fn changes(&self, changes: &[Change]) {
        let mut table = Table::new(["port", "host", "from", "before", "now", "because"]);
        for change in changes {
            let claim = CLAIMS.iter().find(|claim| {
                (claim.host, claim.port, claim.from) == (&change.host, &change.port, &change.from)
            });
            table.row(vec![
                Cell::new(&change.port, Style::Strong),
                Cell::plain(&change.host),
                Cell::plain(format!("{}, {}", change.from, change.versions.join("+"))),
                Cell::new(change.before, met_style(change.before)),
                Cell::new(change.after, met_style(change.after)),
                Cell::plain(claim.map_or("", |claim| claim.because)),
            ]);
        }
        self.say(&table.render(&self.screen));
    }

    fn closing(&self, broken: &[String]) {
        if broken.is_empty() {
            self.say(&format!("\n{END}"));
        }
        for line in broken {
            let lead = self.screen.paint(Style::Wrong, "not as told:");
            self.say(&format!("{lead} {line}\n"));
        }
    }
}

fn met_style(met: &str) -> Style {
    match met {
        "open" => Style::Good,
        "silent" => Style::Closed,
        _ => Style::Mixed,
    }
}

/// The machines that stand for the places, seen from a host.
fn vantages(world: &World, host: &str) -> Vec<Vantage> {
    let insiders = HOSTS.into_iter().filter(|it| *it != host).map(|it| ("stacks", it));
    [
        ("curators", "office"),
        ("herbarium", "herbarium"),
        ("nuisance", "strangers"),
        ("anywhere", "strangers"),
    ]
    .into_iter()
    .chain(insiders)
    .map(|(place, machine)| Vantage {
        place: place.into(),
        way: Way::Namespace(world.namespace_file(machine)),
    })
    .collect()
}

/// Tries to send mail from the calling thread's machine.
fn mail() -> Result<Vec<Sight>, Failure> {
    let address = |text: &str| -> std::net::IpAddr {
        text.parse().unwrap_or_else(|_| unreachable!("{text} is an address"))
    };
    MAIL.into_iter()
        .zip(BENCH)
        .map(|(server, source)| {
            let (server, source) = (address(server), address(source));
            let met = attempt(&Attempt {
                protocol: PortProtocol::Tcp,
                source: Some(source),
                destination: SocketAddr::new(server, 25),
                patience: PATIENCE,
            })?;
            Ok(Sight {
                host: MAIL_HOST.into(),
                port: "25/tcp".into(),
                from: "bench".into(),
                source,
                met: met.state.as_str(),
            })
        })
        .collect()
}

/// What the story says and the lab did not show.
fn broken(before: &Check, after: &Check, status: Outcome) -> Vec<String> {
    let mut broken = Vec::new();
    for claim in CLAIMS {
        let Claim { host, port, from, .. } = claim;
        for (check, word, expected) in
            [(before, "before", claim.before), (after, "after", claim.after)]
        {
            for source in claim.sources {
                let seen = check.sights.iter().find(|it| {
                    (it.host.as_str(), it.port.as_str(), it.from.as_str()) == (host, port, from)
                        && it.source.to_string() == *source
                });
                let met = seen.map_or("not probed", |sight| sight.met);
                if met != expected {
                    broken.push(format!(
                        "{port} of {host} from {from} ({source}): {met} {word} the mend"
                    ));
                }
            }
        }
    }
    for report in before.reports.iter().chain(&after.reports) {
        if report.outcome() != Outcome::Fine {
            broken.push(format!("the witnesses disagree about {}", report.host));
        }
    }
    if status != Outcome::Fine {
        broken.push("sluice's rules are not the policy's".into());
    }
    broken
}
