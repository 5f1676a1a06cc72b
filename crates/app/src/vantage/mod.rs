//! `vantage`: the far end of a check over the network.
//!
//! Whoever asks must be the host that is probed. The address that it speaks from is its own, by ssh's word.
//! Others that it claims are sent one packet each, with a secret; whoever can read that back has them.
//! Number, rate and time of everything are bounded.

mod lines;
mod protocol;

pub use lines::{End, Lines};
pub(crate) use protocol::SECRET;
pub use protocol::{Allowed, Ask, Heard, Hello, Proof, Told, VERSION, Welcome};

use super::Failure;
use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};
use tipstaff_linux::probe::{Attempt, Observation, attempt, echo};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{LinuxError, Machine};

/// More addresses than this no host names.
const MOST_ADDRESSES: usize = 32;
/// So many of those that it claims are sent a secret.
const MOST_SECRETS: usize = 8;
const MOST_PROBES: usize = 4_096;
const PROBES_A_SECOND: u32 = 250;
const AT_ONCE: usize = 64;
const LONGEST_PATIENCE: Duration = Duration::from_secs(60);
/// How long the asking end may take for its first lines, and be silent between probes.
const LONGEST_SILENCE: Duration = Duration::from_secs(30);

/// Where ssh says who speaks: the peer's address and port, and our own.
const SSH: &str = "SSH_CONNECTION";

/// Reads probes from `input`, sends them, and writes to `output` what they met. `vouched` are
/// addresses that may be probed whoever asks.
///
/// # Errors
/// [`Failure`] if the asking end is not understood or may not ask.
pub fn serve(
    machine: &dyn Machine,
    input: impl Read + Send + 'static,
    output: &mut (impl Write + Send),
    vouched: &[IpAddr],
) -> Result<(), Failure> {
    let refused = |output: &mut dyn Write, message: String, help: &str| {
        // Whoever has gone away need not be told.
        let _ = say(output, &Welcome::Refused { error: message.clone() });
        Failure::usage(message, help)
    };
    let lines = Lines::of(input);
    let Ok(line) = lines.next(Instant::now() + LONGEST_SILENCE) else {
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
    let own = machine.addresses()?;
    let peer = std::env::var(SSH).ok().and_then(|it| {
        let word = it.split(' ').next()?.split('%').next()?;
        Some(word.parse::<IpAddr>().ok()?.to_canonical())
    });
    let claims = match claims(&hello.addresses, peer, vouched, &own) {
        Ok(claims) => claims,
        Err(message) => {
            let help = "vouch for the asking host's addresses here: tipstaff vantage --for ADDRESS";
            return Err(refused(output, message, help));
        }
    };
    let secrets = match hello.secret_port {
        0 => Vec::new(),
        port => send_secrets(&claims.unproven, port),
    };
    say(
        output,
        &Welcome::Ready {
            tipstaff_vantage: VERSION,
            addresses: own,
            most_probes: MOST_PROBES,
            probes_a_second: PROBES_A_SECOND,
            secrets: secrets.iter().map(|it| it.address).collect(),
        },
    )?;
    let mut allowed = claims.known;
    let proof = lines.next(Instant::now() + LONGEST_SILENCE).ok();
    let proof: Option<Proof> = proof.and_then(|line| serde_json::from_str(&line).ok());
    let Some(proof) = proof else {
        let message = "the second line, with the secrets that came, is missing".to_owned();
        return Err(refused(output, message, "the protocol is described in docs/VANTAGE.md"));
    };
    allowed.extend(secrets.iter().filter(|it| proof.heard.contains(it)).map(|it| it.address));
    say(output, &Allowed { allowed: allowed.clone() })?;
    let patience = Duration::from_millis(hello.patience_ms).min(LONGEST_PATIENCE);
    probe_all(&lines, output, &allowed, patience)
}

/// The addresses that whoever asks names.
#[derive(Debug, PartialEq, Eq)]
struct Claims {
    /// Those that are its own, or are vouched for.
    known: Vec<IpAddr>,
    /// Those that it has to show are its own.
    unproven: Vec<IpAddr>,
}

/// Sorts the addresses that are named. Those of this end, and those that are nobody's alone, are never
/// probed.
fn claims(
    named: &[IpAddr],
    peer: Option<IpAddr>,
    vouched: &[IpAddr],
    own: &[IpAddr],
) -> Result<Claims, String> {
    if named.len() > MOST_ADDRESSES {
        return Err(format!("{} addresses are too many for one host", named.len()));
    }
    let named: Vec<IpAddr> = named.iter().map(IpAddr::to_canonical).collect();
    let vouched: Vec<IpAddr> = vouched.iter().map(IpAddr::to_canonical).collect();
    let known = |it: &IpAddr| Some(*it) == peer || vouched.contains(it);
    let (known, mut unproven): (Vec<IpAddr>, Vec<IpAddr>) = named.into_iter().partition(known);
    if known.is_empty() {
        return Err(match peer {
            Some(peer) => format!(
                "whoever asks speaks from {peer}, and that is none of the addresses to probe"
            ),
            None => "nothing shows that the addresses to probe belong to whoever asks".into(),
        });
    }
    unproven.retain(|it| is_one_hosts(*it) && !own.contains(it));
    unproven.truncate(MOST_SECRETS);
    Ok(Claims { known, unproven })
}

/// Whether an address can be that of one host elsewhere.
fn is_one_hosts(address: IpAddr) -> bool {
    let everybody = [IpAddr::V4(Ipv4Addr::BROADCAST), IpAddr::V4(Ipv4Addr::UNSPECIFIED)];
    let of_link = match address {
        IpAddr::V4(it) => it.is_link_local(),
        IpAddr::V6(it) => it.is_unicast_link_local(),
    };
    !address.is_loopback()
        && !address.is_multicast()
        && !address.is_unspecified()
        && !of_link
        && !everybody.contains(&address)
}

/// Sends a secret to each address, in one packet; gives those that went out.
fn send_secrets(to: &[IpAddr], port: u16) -> Vec<Heard> {
    let one = |&address: &IpAddr| {
        let any: IpAddr = match address {
            IpAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
            IpAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
        };
        let mut bytes = [0; 16];
        rustix::rand::getrandom(&mut bytes[..], rustix::rand::GetRandomFlags::empty()).ok()?;
        let secret: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        let socket = UdpSocket::bind((any, 0)).ok()?;
        socket.send_to(format!("{SECRET}{secret}\n").as_bytes(), (address, port)).ok()?;
        Some(Heard { address, secret })
    };
    to.iter().filter_map(one).collect()
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
    lines: &Lines,
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
            let line = match lines.next(Instant::now() + LONGEST_SILENCE) {
                Ok(line) => line,
                Err(End::Over) => break,
                Err(End::Late) => {
                    let message = "the asking end has fallen silent".to_owned();
                    outcome = Err(Failure::usage(message, "it ends its input when it is done"));
                    break;
                }
            };
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
        "icmp" => return echo(ask.source, ask.destination, patience),
        word => PortProtocol::parse(word).ok_or_else(|| LinuxError::Refused {
            doing: format!("probe over {}", word.escape_debug()),
            reason: "this end knows tcp, udp, sctp and icmp".into(),
        })?,
    };
    let destination = SocketAddr::new(ask.destination, ask.port);
    attempt(&Attempt { protocol, source: ask.source, destination, patience })
}

#[cfg(test)]
mod tests {
    use super::{Claims, MOST_ADDRESSES, MOST_SECRETS, claims, serve};
    use std::io::Cursor;
    use std::net::IpAddr;
    use tipstaff_linux::Here;

    fn address(text: &str) -> IpAddr {
        text.parse().expect("an address")
    }

    #[test]
    fn only_who_asks_is_probed_and_others_only_when_proven() {
        let named = [address("192.0.2.10"), address("2001:db8:2::10")];
        let found = claims(&named, Some(named[0]), &[], &[]);
        assert_eq!(found, Ok(Claims { known: vec![named[0]], unproven: vec![named[1]] }));
        assert!(claims(&named, Some(address("203.0.113.9")), &[], &[]).is_err());
        assert!(claims(&named, None, &[], &[]).is_err());
        let vouched = claims(&named, None, &[named[1]], &[]);
        assert_eq!(vouched, Ok(Claims { known: vec![named[1]], unproven: vec![named[0]] }));
        // Nobody's alone, and this end's own.
        let odd =
            ["127.0.0.1", "::1", "224.0.0.251", "ff02::1", "255.255.255.255", "0.0.0.0", "::"];
        let mut odd: Vec<IpAddr> = odd.into_iter().map(address).collect();
        odd.extend([address("fe80::1"), address("169.254.0.9"), address("198.51.100.7"), named[0]]);
        let found = claims(&odd, Some(named[0]), &[], &[address("198.51.100.7")]);
        assert_eq!(found, Ok(Claims { known: vec![named[0]], unproven: Vec::new() }));
        let mut many: Vec<IpAddr> = (1..=20).map(|it| IpAddr::from([203, 0, 113, it])).collect();
        many.push(named[0]);
        let found = claims(&many, Some(named[0]), &[], &[]).expect("some");
        assert_eq!(found.unproven.len(), MOST_SECRETS);
        assert!(claims(&vec![named[0]; MOST_ADDRESSES + 1], Some(named[0]), &[], &[]).is_err());
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
            (hello(1), "version 1"),
            (hello(3), "version 3"),
            ("x".repeat(70_000), "sent no line"),
        ] {
            let mut said = Vec::new();
            let failure = serve(&Here, Cursor::new(line), &mut said, &[]).expect_err("refused");
            let said = String::from_utf8_lossy(&said).into_owned();
            assert!(failure.line().contains(word) && said.contains(word), "{said}");
            assert!(said.starts_with("{\"error\":"), "{said}");
        }
        // Vouched for, but the second line does not come.
        let mut said = Vec::new();
        let vouched = [address("192.0.2.10")];
        let failure =
            serve(&Here, Cursor::new(hello(2)), &mut said, &vouched).expect_err("refused");
        assert!(failure.line().contains("second line"), "{}", failure.line());
    }
}
