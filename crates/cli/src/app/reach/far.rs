//! The near end of a check over the network.

use super::probes::{Probe, Seen, Sighting};
use crate::app::Failure;
use crate::app::vantage::{
    Allowed, Ask, End, Heard, Hello, Lines, Proof, SECRET, Told, VERSION, Welcome,
};
use std::collections::BTreeSet;
use std::io::Write;
use std::net::{IpAddr, SocketAddr};
use std::process::{Child, Command, Stdio};
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
pub fn send(
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
    let (program, arguments) =
        command.split_first().ok_or_else(|| system("there is no command".into()))?;
    let mut far = Command::new(program);
    far.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut far = Far(far.spawn().map_err(|error| system(format!("{program}: {error}")))?);
    let (Some(mut to), Some(from)) = (far.0.stdin.take(), far.0.stdout.take()) else {
        return Err(system("it has no input and output".into()));
    };
    let lines = Lines::of(from);
    let patience_ms = u64::try_from(patience.as_millis()).unwrap_or(u64::MAX);
    // Who may not look at all packets is probed at the address that it speaks from.
    let ears = Overhearing::begin().ok();
    let secret_port = if ears.is_some() { SECRET_PORT } else { 0 };
    let addresses = own.to_vec();
    let hello = Hello { tipstaff_vantage: VERSION, addresses, patience_ms, secret_port };
    // If the far end has gone away, its answer says why, or is missing.
    let _ = to.write_all(line(&hello).as_bytes());
    let next = |within: Duration| match lines.next(Instant::now() + within) {
        Ok(text) => Ok(text),
        Err(End::Late) => Err(system(format!("it said nothing for {} seconds", within.as_secs()))),
        Err(End::Over) => Err(system("it ended without a word, or said too much at once".into())),
    };
    let not_understood =
        |error: serde_json::Error| system(format!("its answer is not understood: {error}"));
    let welcome = serde_json::from_str(&next(GREETING)?).map_err(not_understood)?;
    let (version, addresses, most, secrets) = match welcome {
        Welcome::Ready { tipstaff_vantage, addresses, most_probes, secrets, .. } => {
            (tipstaff_vantage, addresses, most_probes.min(MOST_PROBES), secrets)
        }
        Welcome::Refused { error } => return Err(system(error)),
    };
    if version != VERSION {
        return Err(system(format!("it speaks version {version}, this is {VERSION}")));
    }
    let heard = ears.map(|ears| hear(&ears, &secrets)).unwrap_or_default();
    let _ = to.write_all(line(&Proof { heard }).as_bytes());
    let answer = next(ANSWER)?;
    let allowed = match serde_json::from_str::<Allowed>(&answer) {
        Ok(Allowed { allowed }) => allowed,
        Err(error) => {
            return Err(match serde_json::from_str(&answer) {
                Ok(Welcome::Refused { error }) => system(error),
                _ => not_understood(error),
            });
        }
    };

    let mut seen = Seen::default();
    let mut asked: Vec<(&Probe, IpAddr, SocketAddr)> = Vec::new();
    let mut unproven: BTreeSet<IpAddr> = BTreeSet::new();
    for probe in probes {
        let Some(source) = addresses.iter().copied().find(|&it| probe.senders.contains(it)) else {
            continue;
        };
        let receivers = probe.fares.receivers.iter().copied();
        let (may, may_not): (Vec<IpAddr>, Vec<IpAddr>) =
            receivers.partition(|it| allowed.contains(it));
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
        let list: Vec<String> = unproven.iter().map(ToString::to_string).collect();
        seen.unseen.push(format!(
            "what a vantage at {place} sees of {}: the far end probes only addresses that are proven to be \
             this host's, and what it sent there did not come",
            list.join(", ")
        ));
    }
    if asked.is_empty() && unproven.is_empty() && !probes.is_empty() {
        let list: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        seen.unseen.push(format!(
            "what a vantage at {place} sees: the far end has the addresses {}, and none of them is there",
            list.join(", ")
        ));
    }
    if asked.len() > most {
        let left = asked.len() - most;
        seen.unseen.push(format!("from {place}: {left} probes more than the far end sends"));
        asked.truncate(most);
    }
    let mut outcomes: Vec<Option<Told>> = asked.iter().map(|_| None).collect();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            for (number, (probe, source, destination)) in (0u64..).zip(&asked) {
                let ask = Ask {
                    probe: number,
                    protocol: probe.knock.word().into(),
                    source: Some(*source),
                    destination: destination.ip(),
                    port: destination.port(),
                };
                if to.write_all(line(&ask).as_bytes()).is_err() {
                    break;
                }
            }
            // The end of its input tells the far end that this is all.
            drop(to);
        });
        // One answer a probe, and no more; a far end that says anything else, or nothing, is left.
        let all = Duration::from_secs(u64::try_from(outcomes.len()).unwrap_or(0) / 100);
        let deadline = Instant::now() + ANSWER + all + patience * 2;
        for _ in 0..outcomes.len() {
            let Ok(text) = lines.next(deadline) else { break };
            // What makes no sense is no answer; the probe counts as not sent.
            let Ok(told) = serde_json::from_str::<Told>(&text) else { continue };
            let at = usize::try_from(told.probe).unwrap_or(usize::MAX);
            if let Some(place) = outcomes.get_mut(at) {
                *place = Some(told);
            }
        }
        // One that does not read would keep the writer waiting.
        if outcomes.iter().any(Option::is_none) {
            let _ = far.0.kill();
        }
    });
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

fn line(words: &impl serde::Serialize) -> String {
    serde_json::to_string(words).unwrap_or_default() + "\n"
}

/// The secrets that come to this host's addresses.
fn hear(ears: &Overhearing, wanted: &[IpAddr]) -> Vec<Heard> {
    let mut deadline = Instant::now() + HEARING;
    let mut heard: Vec<Heard> = Vec::new();
    // Anybody may send something that looks like one: so all that come are told, within bounds.
    while heard.len() < MOST_HEARD && !wanted.is_empty() {
        let Ok(Some((address, text))) = ears.next(SECRET_PORT, deadline) else { break };
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

/// The command that leads to a far end; it ends with us.
struct Far(Child);

impl Drop for Far {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}
