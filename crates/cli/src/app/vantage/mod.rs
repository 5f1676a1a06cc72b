//! `vantage`: the far end of a check over the network.
//!
//! Whoever asks must be the host that is probed: only addresses that it names in its first line are,
//! and only if the address that it speaks from is one of them, or the caller of the far end vouches for
//! it. Number and rate of probes are bounded.

mod protocol;

pub use protocol::{Ask, Hello, Told, VERSION, Welcome};

use super::Failure;
use std::io::{BufRead, Write};
use std::net::{IpAddr, SocketAddr};
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};
use tipstaff_linux::probe::{Attempt, Observation, attempt, echo};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{LinuxError, NetlinkSocket, Protocol, addresses};

/// More addresses than this no host names.
const MOST_ADDRESSES: usize = 32;
const MOST_PROBES: usize = 4_096;
const PROBES_A_SECOND: u32 = 250;
const AT_ONCE: usize = 64;
const LONGEST_PATIENCE: Duration = Duration::from_secs(60);
/// A line that is longer is no line of this protocol.
const LONGEST_LINE: u64 = 65_536;

/// Where ssh says who speaks: the peer's address and port, and our own.
const SSH: &str = "SSH_CONNECTION";

/// Reads probes from `input`, sends them, and writes to `output` what they met. `vouched` are
/// addresses that may be probed whoever asks.
///
/// # Errors
/// [`Failure`] if the asking end is not understood or may not ask.
pub fn serve(
    input: &mut (impl BufRead + Send),
    output: &mut (impl Write + Send),
    vouched: &[IpAddr],
) -> Result<(), Failure> {
    let refused = |output: &mut dyn Write, message: String, help: &str| {
        // Whoever has gone away need not be told.
        let _ = say(output, &Welcome::Refused { error: message.clone() });
        Failure::usage(message, help)
    };
    let Some(line) = next_line(input) else {
        let message = "nobody asks: the other end sent no line".to_owned();
        return Err(refused(output, message, "this is the far end of `tipstaff reach --vantage`"));
    };
    let hello: Hello = match serde_json::from_str(&line) {
        Ok(hello) => hello,
        Err(error) => {
            let message = format!("the first line is not understood: {error}");
            let help = "the protocol is described in docs/VANTAGE.md";
            return Err(refused(output, message, help));
        }
    };
    if hello.tipstaff_vantage != VERSION {
        let message = format!("version {} is asked for, this is {VERSION}", hello.tipstaff_vantage);
        return Err(refused(output, message, "use the same version of Tipstaff at both ends"));
    }
    let peer = std::env::var(SSH).ok().and_then(|it| it.split(' ').next()?.parse().ok());
    let allowed = match supported(&hello.addresses, peer, vouched) {
        Ok(allowed) => allowed,
        Err(message) => {
            let help = "vouch for the asking host's addresses here: tipstaff vantage --for ADDRESS";
            return Err(refused(output, message, help));
        }
    };
    let own = addresses(&mut NetlinkSocket::open(Protocol::Route)?)?;
    say(
        output,
        &Welcome::Ready {
            tipstaff_vantage: VERSION,
            addresses: own,
            most_probes: MOST_PROBES,
            probes_a_second: PROBES_A_SECOND,
        },
    )?;
    let patience = Duration::from_millis(hello.patience_ms).min(LONGEST_PATIENCE);
    probe_all(input, output, &allowed, patience)
}

/// The addresses that may be probed.
fn supported(
    named: &[IpAddr],
    peer: Option<IpAddr>,
    vouched: &[IpAddr],
) -> Result<Vec<IpAddr>, String> {
    if named.len() > MOST_ADDRESSES {
        return Err(format!("{} addresses are too many for one host", named.len()));
    }
    let named: Vec<IpAddr> = named.iter().map(IpAddr::to_canonical).collect();
    let peer = peer.map(|it| it.to_canonical());
    if peer.is_some_and(|peer| named.contains(&peer)) {
        return Ok(named);
    }
    let known: Vec<IpAddr> = named.into_iter().filter(|it| vouched.contains(it)).collect();
    match (known.is_empty(), peer) {
        (false, _) => Ok(known),
        (true, Some(peer)) => Err(format!(
            "whoever asks speaks from {peer}, and that is none of the addresses to probe"
        )),
        (true, None) => {
            Err("nothing shows that the addresses to probe belong to whoever asks".into())
        }
    }
}

fn next_line(input: &mut impl BufRead) -> Option<String> {
    let mut line = String::new();
    // A line that is too long, or no text, is the end.
    let read = std::io::Read::take(input, LONGEST_LINE).read_line(&mut line).ok()?;
    (read > 0 && line.ends_with('\n')).then_some(line)
}

fn say(output: &mut dyn Write, words: &impl serde::Serialize) -> Result<(), Failure> {
    let failed = |message: String| Failure::System { message, help: Vec::new() };
    let mut text = serde_json::to_string(words).map_err(|error| failed(error.to_string()))?;
    text.push('\n');
    output
        .write_all(text.as_bytes())
        .and_then(|()| output.flush())
        .map_err(|error| failed(format!("the asking end has gone away: {error}")))
}

fn probe_all(
    input: &mut (impl BufRead + Send),
    output: &mut (impl Write + Send),
    allowed: &[IpAddr],
    patience: Duration,
) -> Result<(), Failure> {
    let (asks, queue) = channel::<Ask>();
    let queue = Mutex::new(queue);
    let output = Mutex::new(output);
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE {
            scope.spawn(|| {
                while let Some(ask) = next(&queue) {
                    let told = one(&ask, allowed, patience);
                    if let Ok(mut output) = output.lock() {
                        // Nobody may be there any more; then nobody misses it.
                        let _ = say(*output, &told);
                    }
                }
            });
        }
        let pause = Duration::from_secs(1) / PROBES_A_SECOND;
        let mut outcome = Ok(());
        for number in 0.. {
            let Some(line) = next_line(input) else { break };
            let ask = match serde_json::from_str::<Ask>(&line) {
                Ok(ask) if number < MOST_PROBES => ask,
                Ok(_) => {
                    let message = format!("more than {MOST_PROBES} probes are asked for");
                    outcome = Err(Failure::usage(message, "ask for fewer ports or places"));
                    break;
                }
                Err(error) => {
                    let message = format!("a probe is not understood: {error}");
                    outcome = Err(Failure::usage(
                        message,
                        "the protocol is described in docs/VANTAGE.md",
                    ));
                    break;
                }
            };
            if asks.send(ask).is_err() {
                break;
            }
            std::thread::sleep(pause);
        }
        drop(asks);
        outcome
    })
}

fn next(queue: &Mutex<Receiver<Ask>>) -> Option<Ask> {
    queue.lock().ok()?.recv().ok()
}

fn one(ask: &Ask, allowed: &[IpAddr], patience: Duration) -> Told {
    let begun = Instant::now();
    let outcome = if allowed.contains(&ask.destination) {
        send(ask, patience).map_err(|error| error.to_string())
    } else {
        Err(format!("{} was not named as an address of the asking host", ask.destination))
    };
    let micros = u64::try_from(begun.elapsed().as_micros()).unwrap_or(u64::MAX);
    match outcome {
        Ok(Observation { state, evidence }) => Told {
            probe: ask.probe,
            met: Some(state.as_str().to_owned()),
            evidence,
            error: None,
            micros,
        },
        Err(error) => Told {
            probe: ask.probe,
            met: None,
            evidence: String::new(),
            error: Some(error),
            micros,
        },
    }
}

fn send(ask: &Ask, patience: Duration) -> Result<Observation, LinuxError> {
    let protocol = match ask.protocol.as_str() {
        "tcp" => PortProtocol::Tcp,
        "udp" => PortProtocol::Udp,
        "icmp" => return echo(ask.source, ask.destination, patience),
        _ => {
            return Err(LinuxError::Refused {
                doing: format!("probe over {}", ask.protocol.escape_debug()),
                reason: "this end knows tcp, udp and icmp".into(),
            });
        }
    };
    let destination = SocketAddr::new(ask.destination, ask.port);
    attempt(&Attempt { protocol, source: ask.source, destination, patience })
}

#[cfg(test)]
mod tests {
    use super::{MOST_ADDRESSES, serve, supported};
    use std::net::IpAddr;

    fn address(text: &str) -> IpAddr {
        text.parse().expect("an address")
    }

    #[test]
    fn only_who_asks_is_probed() {
        let named = [address("192.0.2.10"), address("2001:db8:2::10")];
        assert_eq!(supported(&named, Some(address("192.0.2.10")), &[]), Ok(named.to_vec()));
        let mapped = Some(address("::ffff:192.0.2.10"));
        assert_eq!(supported(&named, mapped, &[]), Ok(named.to_vec()));
        assert!(supported(&named, Some(address("203.0.113.9")), &[]).is_err());
        assert!(supported(&named, None, &[]).is_err());
        assert_eq!(supported(&named, None, &[named[1]]), Ok(vec![named[1]]));
        assert!(supported(&vec![named[0]; MOST_ADDRESSES + 1], Some(named[0]), &[]).is_err());
    }

    #[test]
    fn whoever_makes_no_sense_is_told_so() {
        let hello = |version: u32| {
            format!(
                "{{\"tipstaff_vantage\":{version},\"addresses\":[\"192.0.2.10\"],\"patience_ms\":9}}\n"
            )
        };
        for (line, word) in [
            (String::new(), "sent no line"),
            ("what?\n".into(), "not understood"),
            (hello(2), "version 2"),
            ("x".repeat(70_000), "sent no line"),
        ] {
            let mut said = Vec::new();
            let failure = serve(&mut line.as_bytes(), &mut said, &[]).expect_err("refused");
            let said = String::from_utf8_lossy(&said).into_owned();
            assert!(failure.line().contains(word) && said.contains(word), "{said}");
            assert!(said.starts_with("{\"error\":"), "{said}");
        }
    }
}
