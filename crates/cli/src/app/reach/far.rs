//! The near end of a check over the network.

use super::probes::{Probe, Seen, Sighting};
use crate::app::Failure;
use crate::app::vantage::{Ask, Hello, Told, VERSION, Welcome};
use std::io::{BufRead, BufReader, Write};
use std::net::{IpAddr, SocketAddr};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tipstaff_core::space::closest;
use tipstaff_linux::probe::{Observation, State};

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
    let mut lines = BufReader::new(from).lines();
    let patience_ms = u64::try_from(patience.as_millis()).unwrap_or(u64::MAX);
    let hello = Hello { tipstaff_vantage: VERSION, addresses: own.to_vec(), patience_ms };
    let line = |words: &Result<String, serde_json::Error>| match words {
        Ok(text) => format!("{text}\n"),
        Err(_) => "\n".into(),
    };
    // If the far end has gone away, its answer says why, or is missing.
    let _ = to.write_all(line(&serde_json::to_string(&hello)).as_bytes());
    let welcome = match lines.next() {
        Some(Ok(text)) => serde_json::from_str(&text)
            .map_err(|error| system(format!("its first line is not understood: {error}")))?,
        _ => return Err(system("it ended without a word".into())),
    };
    let (addresses, most) = match welcome {
        Welcome::Ready { addresses, most_probes, .. } => (addresses, most_probes),
        Welcome::Refused { error } => return Err(system(error)),
    };

    let mut seen = Seen::default();
    let mut asked: Vec<(&Probe, IpAddr, SocketAddr)> = Vec::new();
    for probe in probes {
        let Some(source) = addresses.iter().copied().find(|&it| probe.senders.contains(it)) else {
            continue;
        };
        if let Some(receiver) = closest(probe.fares.receivers.iter().copied(), source) {
            asked.push((probe, source, SocketAddr::new(receiver, probe.knock.port())));
        }
    }
    if asked.is_empty() && !probes.is_empty() {
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
                if to.write_all(line(&serde_json::to_string(&ask)).as_bytes()).is_err() {
                    break;
                }
            }
            // The end of its input tells the far end that this is all.
            drop(to);
        });
        for text in lines.map_while(Result::ok) {
            // What makes no sense is no answer; the probe counts as not sent.
            let Ok(told) = serde_json::from_str::<Told>(&text) else { continue };
            let at = usize::try_from(told.probe).unwrap_or(usize::MAX);
            if let Some(place) = outcomes.get_mut(at) {
                *place = Some(told);
            }
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
