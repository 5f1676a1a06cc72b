//! The second story: one policy for three hosts, and a roll-out that stops at the one that refuses.

use super::teller::Teller;
use super::world::{self, HOSTS, World};
use crate::commands::{Output, Typed};
use crate::render::{self, Format, Screen};
use serde::Serialize;
use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use tipstaff_app::{Failure, Outcome, loaded};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::Source;

const POLICY: (&str, &str) = ("demo/fleet.toml", include_str!("../../../../demo/fleet.toml"));
/// A key of the demo's, and nobody else's.
const KEY: &str = include_str!("key");
const PUBLIC: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOQDy8zAliGyH7t528tNqLWLUyXjXT6p30tjjcgf4ePz";

const TITLE: &str = "Tidewater Seed Library: one policy for three hosts, in a sealed lab";
const WORLD: &str = "\
Three hosts, sluice, granary and bench, and an office where their one policy is written. What all of
them have is said once, of a label. A folder carries what is sealed to them.
";

/// What is done, and what it must come to.
struct Step {
    /// On which host; in the office if left out.
    on: Option<&'static str>,
    words: &'static str,
    exit: i32,
}

const fn office(words: &'static str, exit: i32) -> Step {
    Step { on: None, words, exit }
}

enum Part {
    Chapter(&'static str, &'static str),
    Step(Step),
    /// The policy in the office gets another text.
    Edit(&'static str, &'static str),
    /// Hosts begin to attend.
    Attend,
    /// Somebody changes the policy on a host itself.
    ByHand(&'static str, &'static str),
}

const STORY: &[Part] = &[
    Part::Chapter(
        "1. What must hold between hosts",
        "The policy says it, and it is proven for every packet, on every way: bench may be at home, or travel behind \
         its tunnel, which ends at sluice.",
    ),
    Part::Step(office("fleet expectations", 0)),
    Part::Step(office("fleet reach granary bench 22000/tcp", 0)),
    Part::Chapter(
        "2. Sealed, and rolled out",
        "The policy is signed, and each host takes it: it enforces it with a way back, and keeps it if it still reaches the \
         folder, and what answered still does.",
    ),
    Part::Step(office("fleet seal --key key", 0)),
    Part::Attend,
    Part::Step(office("fleet roll-out --steps 1,2,100%", 0)),
    Part::Step(office("fleet status", 0)),
    Part::Chapter(
        "3. Who really reaches whom",
        "Hosts try each other, and what they meet is held against what the policy says of just those packets.",
    ),
    Part::Step(office("fleet probe 5432/tcp --to granary --within stacks", 0)),
    Part::Step(office("fleet matrix 9100/tcp --within stacks", 0)),
    Part::Chapter(
        "4. A rule that breaks a promise",
        "Somebody opens the database to all of the stacks. It is not sealed: bench would reach it.",
    ),
    Part::Edit(
        "name = \"database\"\nallow = [\"5432/tcp\"]\nfrom = [\"10.44.8.10\", \"fd44:8::10\"]",
        "name = \"database\"\nallow = [\"5432/tcp\"]\nfrom = [\"stacks\"]",
    ),
    Part::Step(office("fleet seal --key key", 1)),
    Part::Edit(
        "name = \"database\"\nallow = [\"5432/tcp\"]\nfrom = [\"stacks\"]",
        "name = \"database\"\nallow = [\"5432/tcp\"]\nfrom = [\"10.44.8.10\", \"fd44:8::10\"]",
    ),
    Part::Chapter(
        "5. A roll-out that stops",
        "The herbarium's copies come back: a rule more on granary. But somebody has changed the policy on granary itself, in \
         some emergency. That is not overwritten: granary says so, and the roll-out stops there.",
    ),
    Part::ByHand(
        "granary",
        "\n[[host.granary.rule]]\nname = \"emergency\"\ndeny = [\"9100/tcp\"]\n",
    ),
    Part::Edit(
        "# --- bench: a desk",
        "[[host.granary.rule]]\nname = \"copies\"\nallow = [\"873/tcp\"]\nfrom = [\"198.51.100.128/28\"]\n\n# --- bench: a desk",
    ),
    Part::Step(office("fleet seal --key key", 0)),
    Part::Step(office("fleet roll-out --steps 1,2,100%", 1)),
    Part::Chapter(
        "6. Looked at, and gone on",
        "On granary, somebody looks at what was changed there and gives it up for what granary took last. Then the same \
         command goes on where it stopped.",
    ),
    Part::Step(Step { on: Some("granary"), words: "fleet take --over-local", exit: 0 }),
    Part::Step(office("fleet roll-out --steps 1,2,100%", 0)),
    Part::Step(office("fleet status", 0)),
];

const END: &str = "
All of it came as it was told. The policy is demo/fleet.toml; docs/FLEET.md leads from nothing to three hosts.
";

/// What was done and what came of it, for programs.
#[derive(Serialize)]
struct Done {
    host: Option<&'static str>,
    command: String,
    exit: i32,
    found: Value,
}

#[derive(Serialize)]
struct Findings {
    steps: Vec<Done>,
    /// What did not come as it was told; empty if all is well.
    broken: Vec<String>,
}

struct Fleet {
    world: World,
    desk: PathBuf,
    attending: Vec<Child>,
}

impl Drop for Fleet {
    fn drop(&mut self) {
        for child in &mut self.attending {
            // It may have ended by itself.
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Tells the story. In the JSON format, only what was found is written, at the end.
///
/// # Errors
/// [`Failure`] if the lab cannot be built.
pub fn tell(format: Format, screen: &Screen, typed: Typed) -> Result<Output, Failure> {
    let teller = Teller { screen: *screen, silent: format == Format::Json, typed };
    teller.opening(TITLE, WORLD);
    let mut fleet = Fleet::build()?;
    let (mut steps, mut broken) = (Vec::new(), Vec::new());
    for part in STORY {
        match part {
            Part::Chapter(title, text) => teller.chapter(title, text),
            Part::Edit(old, new) => fleet.edit("fleet.toml", |text| text.replacen(old, new, 1))?,
            Part::ByHand(host, more) => {
                fleet.edit(&format!("{host}-policy/fleet.toml"), |text| format!("{text}{more}"))?;
            }
            Part::Attend => fleet.attend()?,
            Part::Step(step) => {
                let done = fleet.step(&teller, step)?;
                if done.exit != step.exit {
                    broken.push(format!(
                        "{}: exit code {}, not {}",
                        done.command, done.exit, step.exit
                    ));
                }
                steps.push(done);
            }
        }
    }
    match &broken[..] {
        [] => teller.say(END),
        broken => teller.say(&format!("\nnot as it was told:\n{}\n", broken.join("\n"))),
    }
    let exit = if broken.is_empty() { Outcome::Fine } else { Outcome::Found };
    let text = render::report(format, screen, &Findings { steps, broken }, |_, _| String::new());
    Ok(Output { text, outcome: exit })
}

fn failed(what: &str) -> impl Fn(std::io::Error) -> Failure {
    move |error| Failure::System { message: format!("cannot {what}: {error}"), help: Vec::new() }
}

impl Fleet {
    fn build() -> Result<Self, Failure> {
        let source = Source::new(POLICY.0, POLICY.1);
        let of = |host: &&str| loaded(POLICY.0, vec![source.clone()], Some(host));
        let policies = HOSTS.iter().map(of).collect::<Result<Vec<_>, _>>()?;
        let plans: Vec<&HostPlan> = policies.iter().map(|it| &it.plan).collect();
        let world = World::build(&plans)?;
        // Hosts whose network namespaces have names keep what they have over a reboot.
        world.name()?;
        let desk = world::desk()?;
        let write =
            |name: &str, text: &str| fs::write(desk.join(name), text).map_err(failed("write"));
        write("fleet.toml", POLICY.1)?;
        write("key", KEY)?;
        write("signers", &format!("duty {PUBLIC}\n"))?;
        fs::create_dir(desk.join("carrier")).map_err(failed("make a folder"))?;
        Ok(Self { world, desk, attending: Vec::new() })
    }

    fn edit(&self, file: &str, change: impl Fn(&str) -> String) -> Result<(), Failure> {
        let file = self.desk.join(file);
        let text = fs::read_to_string(&file).map_err(failed("read a policy"))?;
        let new = change(&text);
        fs::write(&file, new).map_err(failed("write a policy"))
    }

    /// This program, on a host or in the office.
    fn program(&self, on: Option<&str>, words: &str) -> Result<Command, Failure> {
        let mut command = Command::new("/proc/self/exe");
        let policy = on.map_or_else(|| "fleet.toml".to_owned(), |it| format!("{it}-policy"));
        command.args(["--policy", &policy]);
        if let Some(host) = on {
            command.args(["--host", host, "--state", host, "--boot-note", "boot-note.json"]);
        }
        command.args(words.split(' ')).current_dir(&self.desk).stdin(Stdio::null());
        let told = [
            ("TIPSTAFF_FLEET", Path::new("tidewater")),
            ("TIPSTAFF_CARRIER", &self.desk.join("carrier")),
            ("TIPSTAFF_SIGNERS", &self.desk.join("signers")),
        ];
        command.envs(told.iter().map(|(name, value)| (name, value.as_os_str())));
        if let Some(host) = on {
            self.world.node(host).start_here(&mut command)?;
        }
        Ok(command)
    }

    fn attend(&mut self) -> Result<(), Failure> {
        for host in HOSTS {
            let mut command = self.program(Some(host), "attend")?;
            command.stdout(Stdio::null()).stderr(Stdio::null());
            self.attending.push(command.spawn().map_err(failed("have a host attend"))?);
        }
        Ok(())
    }

    fn step(&self, teller: &Teller, step: &Step) -> Result<Done, Failure> {
        let shown = match step.on {
            Some(host) => format!("--host {host} {}", step.words),
            None => step.words.to_owned(),
        };
        teller.command(&shown);
        let mut command = self.program(step.on, step.words)?;
        if teller.silent {
            command.args(["--format", "json"]).stderr(Stdio::null());
            let output = command.output().map_err(failed("run a command"))?;
            let found = serde_json::from_slice(&output.stdout).unwrap_or(Value::Null);
            let exit = output.status.code().unwrap_or(-1);
            return Ok(Done { host: step.on, command: step.words.to_owned(), exit, found });
        }
        command.args(["--color", if teller.screen.is_colored() { "always" } else { "never" }]);
        // What it says goes where the story is told; a stopped one is not to be missed among it.
        let said = command.status().map_err(failed("run a command"))?;
        teller.say("\n");
        let exit = said.code().unwrap_or(-1);
        Ok(Done { host: step.on, command: step.words.to_owned(), exit, found: Value::Null })
    }
}
