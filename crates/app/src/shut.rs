//! The posture that is built in: `shut`, nothing in or out but loopback. It needs neither a policy nor anything on
//! disk.

use crate::Failure;
use crate::session;
use jiff::Timestamp;
use std::net::SocketAddr;
use std::time::Duration;
use tipstaff_core::policy::Time;
use tipstaff_core::space::TCP;
use tipstaff_linux::flows::{end_socket, forget};
use tipstaff_linux::ruleset::{self, Door, Shut};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{Machine, Protocol, Session};

/// A shut door.
#[derive(Debug)]
pub(crate) struct Closed {
    /// Since when, in UTC.
    pub since: String,
    /// Until when, in UTC; `None`: until it is opened.
    pub until: Option<String>,
    /// Why, as whoever shut it said.
    pub why: Option<String>,
    /// The remote session that goes on all the same, as `ADDRESS:PORT to ADDRESS:PORT`.
    pub session: Option<String>,
    /// Whether the kernel does what was meant.
    pub intact: bool,
    /// How many packets it has turned away.
    pub turned_away: u64,
    /// How many connections were ended.
    pub ended: Option<u64>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// How the door is to be shut.
#[derive(Clone, Debug, Default)]
pub struct Wish {
    /// For how long; `None`: until it is opened.
    pub time: Option<Duration>,
    /// Whether also the session that asks ends.
    pub all: bool,
    /// Whether it is done even if nobody could open it again from afar.
    pub even_if_locked_out: bool,
    /// Why.
    pub why: String,
}

/// Shuts the door: nothing comes in or goes out but by loopback, and what was open is ended.
///
/// # Errors
/// [`Failure`] if it would lock out whoever asks, or the kernel refuses.
pub(crate) fn shut(machine: &dyn Machine, wish: &Wish) -> Result<Closed, Failure> {
    let (own, guessed) = own_session(machine, wish)?;
    if own.is_some() && wish.all && wish.time.is_none() && !wish.even_if_locked_out {
        return Err(Failure::stopped(
            "this would end your own session, and nobody could open again from afar",
            vec![
                "--for 30m opens by itself after that time; without --all your session goes on"
                    .into(),
                "--even-if-locked-out does it all the same".into(),
            ],
        ));
    }
    let now = Timestamp::now().as_second();
    let seconds = |it: Duration| i64::try_from(it.as_secs()).unwrap_or(i64::MAX);
    // Whole seconds, no fewer than were asked for.
    let until = wish.time.map(|it| Time::from_seconds(now.saturating_add(seconds(it) + 1)));
    let session = own.filter(|_| !wish.all);
    let how = Shut { since: now, until, session, why: one_line(&wish.why) };
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    ruleset::shut(&mut kernel, &how)?;
    // From here on nothing passes; what could not be ended has nobody to talk to.
    let mut remarks = Vec::new();
    if session.is_some() && guessed {
        remarks.push(
            "the session in which this was begun has ended; the only one that lives is taken for yours. If it \
             is not, `tipstaff shut --all` ends it"
                .into(),
        );
    }
    let ended = match end_all(machine, session) {
        Ok(ended) => Some(ended),
        Err(failure) => {
            let why = failure.line();
            remarks.push(format!(
                "what was open could not all be ended, though nothing of it passes: {why}"
            ));
            None
        }
    };
    if session.is_some() && until.is_none() {
        remarks.push(
            "should your session break, only this machine's console can open again; --for 1h would open by \
             itself"
                .into(),
        );
    }
    // It is shut, whether or not it can be read back.
    let door = ruleset::door(&mut kernel).unwrap_or_else(|error| {
        remarks.push(format!("whether it holds could not be read back: {error}"));
        None
    });
    let door = door.unwrap_or(Door { shut: how, intact: false, turned_away: 0 });
    Ok(Closed { ended, remarks, ..told(door) })
}

/// The remote session from which this is asked, if it is one. What the environment tells may be of one that has ended,
/// where somebody came back to what it left running: then it is the only one that lives, and that is a guess.
fn own_session(machine: &dyn Machine, wish: &Wish) -> Result<(Option<Session>, bool), Failure> {
    let Some(told) = machine.own_session().filter(|it| !it.client.is_loopback()) else {
        return Ok((None, false));
    };
    let living = session::living(machine).unwrap_or_else(|_| vec![told]);
    match living[..] {
        _ if living.contains(&told) => Ok((Some(told), false)),
        [only] => Ok((Some(only), true)),
        // By which way whoever asks came back, nobody can tell.
        [] if wish.time.is_some() || wish.even_if_locked_out => Ok((None, false)),
        [] => Err(Failure::stopped(
            "the remote session in which this was begun has ended, and by which way you are here now cannot be \
             told: it would be shut too",
            vec![
                "--for 30m opens by itself after that time".into(),
                "--even-if-locked-out does it all the same, as at the machine's console".into(),
            ],
        )),
        _ if wish.all || wish.even_if_locked_out => Ok((Some(told), false)),
        _ => Err(Failure::stopped(
            "it cannot be told which of the remote sessions here is yours, so it would be ended",
            vec!["--all --for 30m ends all of them, and opens by itself after that time".into()],
        )),
    }
}

/// Opens the door again: all is as it was. Gives whether it was shut.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub(crate) fn open(machine: &dyn Machine) -> Result<bool, Failure> {
    Ok(ruleset::open(&mut machine.channel(Protocol::Netfilter)?)?)
}

/// How it is shut; `None` if it is not.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look.
pub(crate) fn look(machine: &dyn Machine) -> Result<Option<Closed>, Failure> {
    let now = Timestamp::now().as_second();
    let door = ruleset::door(&mut machine.channel(Protocol::Netfilter)?)?;
    // One whose time is over lets everything through, and is none.
    Ok(door.filter(|it| it.shut.until.is_none_or(|until| until.seconds() > now)).map(told))
}

/// What is to be said where something else is done while the door is shut; `None` if it is not, or may not be looked
/// at.
pub(crate) fn remark(machine: &dyn Machine) -> Option<String> {
    let since = look(machine).ok()??.since;
    Some(format!(
        "the door is shut since {since}, whatever the rules say: `tipstaff posture leave` opens it"
    ))
}

fn told(door: Door) -> Closed {
    let Door { shut, intact, turned_away } = door;
    Closed {
        since: Time::from_seconds(shut.since).to_string(),
        until: shut.until.map(|it| it.to_string()),
        why: Some(shut.why).filter(|it| !it.is_empty()),
        session: shut.session.map(ends),
        intact,
        turned_away,
        ended: None,
        remarks: Vec::new(),
    }
}

fn ends(it: Session) -> String {
    let (client, server) =
        (SocketAddr::new(it.client, it.client_port), SocketAddr::new(it.server, it.port));
    format!("{client} to {server}")
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Ends what is open with others, but for the session; gives how many connections that were.
fn end_all(machine: &dyn Machine, session: Option<Session>) -> Result<u64, Failure> {
    let own = machine.addresses()?;
    let here = |it: SocketAddr| it.ip().is_loopback() || own.contains(&it.ip());
    let is_session = |one: SocketAddr, other: SocketAddr| {
        session.is_some_and(|it| {
            let (client, server) =
                (SocketAddr::new(it.client, it.client_port), SocketAddr::new(it.server, it.port));
            [(client, server), (server, client)].contains(&(one, other))
        })
    };
    let plain = |it: SocketAddr| SocketAddr::new(it.ip().to_canonical(), it.port());
    let mut ended = 0;
    let mut diagnosis = machine.channel(Protocol::SocketDiagnosis)?;
    let mut failed = None;
    for socket in machine.open_connections()?.found {
        let (one, other) = (plain(socket.own), plain(socket.peer));
        if socket.protocol != PortProtocol::Tcp || here(other) || is_session(one, other) {
            continue;
        }
        match end_socket(&mut diagnosis, &socket) {
            Ok(_) => ended += 1,
            Err(error) => failed = Some(error),
        }
    }
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    for flow in machine.flows()? {
        let local = |it| here(SocketAddr::new(it, 0));
        let kept = flow.ports.is_some_and(|(from, to)| {
            is_session(SocketAddr::new(flow.source, from), SocketAddr::new(flow.destination, to))
        });
        if kept || local(flow.source) && local(flow.destination) {
            continue;
        }
        // Those of this machine's own TCP connections have been counted by their sockets.
        let counted = flow.protocol == TCP && (local(flow.source) || local(flow.destination));
        match forget(&mut kernel, &flow) {
            Ok(_) => ended += u64::from(!counted),
            Err(error) => failed = Some(error),
        }
    }
    failed.map_or(Ok(ended), |error| Err(error.into()))
}
