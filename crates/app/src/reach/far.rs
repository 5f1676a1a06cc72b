//! The near end of a check over the network.

use super::planned::Probe;
use super::sighting::{Seen, Sighting};
use crate::Failure;
use crate::vantage::{
    Allowed, Ask, End, Heard, Hello, Lines, Proof, SECRET, Told, VERSION, Welcome,
};
use std::collections::BTreeSet;
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::process::{Child, ChildStdin, Command, Stdio};
use std::time::{Duration, Instant};
use tipstaff_core::space::closest;
use tipstaff_linux::probe::{Observation, Overhearing, State};

/// Where secrets come to. Nobody has to listen there: they are heard ahead of all rules.
const SECRET_PORT: u16 = 48_484;
const MOST_HEARD: usize = 256;
/// More probes than this are never asked for, whatever the far end offers.
const MOST_PROBES: usize = 65_536;
/// How long the far end may take to come up: somebody may have to type a password.
const GREETING: Duration = Duration::from_secs(120);
/// How long it may take for an answer.
const ANSWER: Duration = Duration::from_secs(30);
/// How long secrets are listened for.
const HEARING: Duration = Duration::from_secs(2);
/// And how long after each address has had one.
const LINGER: Duration = Duration::from_millis(100);

/// Has probes sent from the far end that a command leads to. `own` are this host's addresses.
///
/// # Errors
/// [`Failure`] if the command cannot be started, or the far end refuses or makes no sense.
pub(super) fn send(
    place: &str,
    command: &[String],
    probes: &[&Probe],
    own: &[IpAddr],
    patience: Duration,
) -> Result<Seen, Failure> {
    let system = |message: String| Failure::System {
        message: format!("the vantage for {}: {message}", place.escape_debug()),
        help: vec![format!("it was reached by: {}", command.join(" "))],
    };
    let mut far = Far::start(command).map_err(system)?;
    let terms = far.greet(own, patience).map_err(system)?;
    let mut seen = Seen::default();
    let asked = choose(place, probes, &terms, &mut seen);
    let outcomes = far.ask(&asked, patience);
    for ((probe, source, destination), told) in asked.into_iter().zip(outcomes) {
        let time = told.as_ref().map_or(0, |told| told.micros);
        seen.sightings.push(Sighting {
            probe: probe.clone(),
            source,
            destination,
            outcome: outcome(told),
            time: Duration::from_micros(time),
            explained: None,
            arrived: None,
        });
    }
    Ok(seen)
}

/// A probe, from which of the far end's addresses, and to where.
type Asked<'p> = (&'p Probe, IpAddr, SocketAddr);

/// What the far end offers.
struct Terms {
    /// The addresses that the far end has.
    addresses: Vec<IpAddr>,
    /// How many probes it sends.
    most: usize,
    /// The addresses of this host that it probes.
    allowed: Vec<IpAddr>,
}

/// The probes that the far end can be asked for; what it cannot see is noted.
fn choose<'p>(place: &str, probes: &[&'p Probe], terms: &Terms, seen: &mut Seen) -> Vec<Asked<'p>> {
    let listed =
        |list: &[IpAddr]| list.iter().map(ToString::to_string).collect::<Vec<String>>().join(", ");
    let mut asked: Vec<Asked<'p>> = Vec::new();
    let mut unproven: BTreeSet<IpAddr> = BTreeSet::new();
    for probe in probes {
        let mut sources = terms.addresses.iter().copied();
        let Some(source) = sources.find(|&it| probe.senders.contains(it)) else { continue };
        let receivers = probe.fares.receivers.iter().copied();
        let (may, may_not): (Vec<IpAddr>, Vec<IpAddr>) =
            receivers.partition(|it| terms.allowed.contains(it));
        match (closest(may.into_iter(), source), may_not.first()) {
            (Some(receiver), _) => {
                asked.push((probe, source, SocketAddr::new(receiver, probe.knock.port())));
            }
            (None, Some(receiver)) => {
                unproven.insert(*receiver);
            }
            (None, None) => {}
        }
    }
    if !unproven.is_empty() {
        let list: Vec<IpAddr> = unproven.iter().copied().collect();
        seen.unseen.push(format!(
            "what a vantage at {place} sees of {}: the far end probes only addresses that are proven to be \
             this host's, and what it sent there did not come",
            listed(&list)
        ));
    }
    if asked.is_empty() && unproven.is_empty() && !probes.is_empty() {
        seen.unseen.push(format!(
            "what a vantage at {place} sees: the far end has the addresses {}, and none of them is there",
            listed(&terms.addresses)
        ));
    }
    if asked.len() > terms.most {
        let left = asked.len() - terms.most;
        seen.unseen.push(format!("from {place}: {left} probes more than the far end sends"));
        asked.truncate(terms.most);
    }
    asked
}

/// The command that leads to a far end; it ends with us.
struct Far {
    process: Child,
    to: Option<ChildStdin>,
    lines: Lines,
}

impl Far {
    fn start(command: &[String]) -> Result<Self, String> {
        let (program, arguments) = command.split_first().ok_or("there is no command")?;
        let mut far = Command::new(program);
        far.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped());
        let mut process = far.spawn().map_err(|error| format!("{program}: {error}"))?;
        let (to, from) = (process.stdin.take(), process.stdout.take());
        let from = from.ok_or("it has no output")?;
        Ok(Self { process, to, lines: Lines::of(from) })
    }

    /// Says something; if the far end has gone away, its answer says why, or is missing.
    fn say(&mut self, words: &impl serde::Serialize) {
        if let Some(to) = &mut self.to {
            let _ = to.write_all(line(words).as_bytes());
        }
    }

    fn next(&self, within: Duration) -> Result<String, String> {
        self.lines.next(Instant::now() + within).map_err(|end| match end {
            End::Late => format!("it said nothing for {} seconds", within.as_secs()),
            End::Over => "it ended without a word, or said too much at once".into(),
        })
    }

    /// Agrees on what is probed.
    fn greet(&mut self, own: &[IpAddr], patience: Duration) -> Result<Terms, String> {
        let not_understood = |error| format!("its answer is not understood: {error}");
        // Who may not look at all packets is probed at the address that it speaks from.
        let ears = Overhearing::begin(SECRET_PORT).ok();
        self.say(&Hello {
            tipstaff_vantage: VERSION,
            addresses: own.to_vec(),
            patience_ms: u64::try_from(patience.as_millis()).unwrap_or(u64::MAX),
            secret_port: if ears.is_some() { SECRET_PORT } else { 0 },
        });
        let welcome = serde_json::from_str(&self.next(GREETING)?).map_err(not_understood)?;
        let (version, addresses, most, secrets) = match welcome {
            Welcome::Ready { tipstaff_vantage, addresses, most_probes, secrets, .. } => {
                (tipstaff_vantage, addresses, most_probes.min(MOST_PROBES), secrets)
            }
            Welcome::Refused { error } => return Err(error),
        };
        if version != VERSION {
            return Err(format!("it speaks version {version}, this is {VERSION}"));
        }
        let heard = ears.map(|ears| hear(&ears, &secrets)).unwrap_or_default();
        self.say(&Proof { heard });
        let answer = self.next(ANSWER)?;
        match serde_json::from_str::<Allowed>(&answer) {
            Ok(Allowed { allowed }) => Ok(Terms { addresses, most, allowed }),
            Err(error) => Err(match serde_json::from_str(&answer) {
                Ok(Welcome::Refused { error }) => error,
                _ => not_understood(error),
            }),
        }
    }

    /// Has the probes sent, and gives what each met, as far as it is told in time.
    fn ask(&mut self, asked: &[Asked<'_>], patience: Duration) -> Vec<Option<Told>> {
        let asks: Vec<String> = (0u64..)
            .zip(asked)
            .map(|(number, (probe, source, destination))| {
                line(&Ask {
                    probe: number,
                    protocol: probe.knock.word().into(),
                    source: Some(*source),
                    destination: destination.ip(),
                    port: destination.port(),
                })
            })
            .collect();
        // On a thread that nobody waits for: a far end that does not read keeps it for ever. The end of
        // its input tells the far end that this is all.
        if let Some(mut to) = self.to.take() {
            std::thread::spawn(move || {
                asks.iter().try_for_each(|ask| to.write_all(ask.as_bytes()))
            });
        }
        let mut outcomes: Vec<Option<Told>> = asked.iter().map(|_| None).collect();
        // One answer a probe, and no more; a far end that says anything else, or nothing, is left.
        let all = Duration::from_secs(u64::try_from(outcomes.len()).unwrap_or(0) / 100);
        let deadline = Instant::now() + ANSWER + all + patience * 2;
        for _ in 0..outcomes.len() {
            let Ok(text) = self.lines.next(deadline) else { break };
            // What makes no sense is no answer; the probe counts as not sent.
            let Ok(told) = serde_json::from_str::<Told>(&text) else { continue };
            let at = usize::try_from(told.probe).unwrap_or(usize::MAX);
            if let Some(place) = outcomes.get_mut(at) {
                *place = Some(told);
            }
        }
        outcomes
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

fn line(words: &impl serde::Serialize) -> String {
    serde_json::to_string(words).unwrap_or_default() + "\n"
}

/// The secrets that come to this host's addresses.
fn hear(ears: &Overhearing, wanted: &[IpAddr]) -> Vec<Heard> {
    let mut deadline = Instant::now() + HEARING;
    let mut heard: Vec<Heard> = Vec::new();
    // Anybody may send something that looks like one: so all that come are told, within bounds.
    while heard.len() < MOST_HEARD && !wanted.is_empty() {
        let Ok(Some((address, text))) = ears.next(deadline) else { break };
        let secret = std::str::from_utf8(&text).ok().and_then(|it| it.strip_prefix(SECRET));
        let Some(secret) = secret.map(|it| it.trim().to_owned()) else { continue };
        if wanted.contains(&address) {
            heard.push(Heard { address, secret });
        }
        if wanted.iter().all(|it| heard.iter().any(|heard| heard.address == *it)) {
            deadline = deadline.min(Instant::now() + LINGER);
        }
    }
    heard
}

fn outcome(told: Option<Told>) -> Result<Observation, String> {
    let told = told.ok_or("the far end did not answer")?;
    let state = told.met.as_deref().and_then(State::parse);
    match (state, told.error) {
        (Some(state), _) => Ok(Observation { state, evidence: told.evidence }),
        (None, Some(error)) => Err(error),
        (None, None) => Err("the far end's answer is not understood".into()),
    }
}
