//! `reach`: which listeners can be reached, from where, and whether the witnesses agree.

mod copy;
mod far;
mod planned;
mod probes;
mod published;
pub(crate) mod senders;
mod sighting;
mod silence;
mod vantage;
pub(crate) mod verdicts;
mod words;

pub use vantage::{Vantage, Way};
pub use words::{Entry, From, Part, ProbeWords, Report, Request};

use super::came::{Comers, Door};
use super::finding;
use super::led::Ways;
use super::receivers::Names;
use super::status::OLDER_TABLES;
use super::users::Users;
use super::{Failure, Loaded, live};
use planned::{Knock, Planned};
use senders::Column;
use sighting::Stopped;
use std::net::IpAddr;
use tipstaff_core::analysis::{self, Code};
use tipstaff_core::space::Family;
use tipstaff_linux::ruleset::{Snapshot, Whose};
use tipstaff_linux::sockets::Listener;
use tipstaff_linux::{LinuxError, Machine};
use verdicts::{Of, Wanted};

/// Makes the report for the calling thread's network namespace.
///
/// # Errors
/// [`Failure`] if an argument is not understood, or the sockets cannot be listed.
pub fn report(
    machine: &dyn Machine,
    loaded: &Loaded,
    request: &Request<'_>,
) -> Result<Report, Failure> {
    let columns = senders::columns(&loaded.policy, request.from)?;
    for vantage in request.vantages {
        planned::check_place(vantage, &columns)?;
    }
    let listed = machine.listeners()?;
    let mut unknown: Vec<String> = listed.unseen().collect();
    let listeners = listed.found;
    let snapshot = in_force(machine, &mut unknown)?;
    let kernel_unreadable = snapshot.is_none();
    let tallies = |it: &Snapshot| it.tallies.clone();
    let before = snapshot.iter().flatten().next().map(tallies).unwrap_or_default();
    let kernel =
        snapshot.map_or(verdicts::Kernel::Unreadable, |it| verdicts::Kernel::of(it, loaded.now));
    if listeners.iter().any(|listener| listener.owner.is_none()) {
        unknown.push("some programs: the system shows them to root only".into());
    }
    let mut planned = Planned::default();
    let users = Users::of(machine);
    let names = Names::of(machine, loaded);
    let comers = Comers::look(machine);
    let ways = ways(machine, &listeners, &names, &mut unknown);
    let mut entries: Vec<Entry> = listeners
        .iter()
        .map(|listener| {
            let wanted = Wanted::of(listener, names.of_listener(listener), &kernel);
            let from = views(listener, &wanted, (loaded, &kernel, &ways), &columns, &mut planned);
            let user = users.name(listener.uid);
            let entry = entry(listener, taken_for(wanted, &names), user, from);
            with_port(entry, listener, loaded, comers.as_ref())
        })
        .collect();
    let of = (loaded, &kernel, &ways);
    entries.extend(published::entries(of, &columns, &listeners, &mut planned));
    published::name_who_waits(machine, &mut entries);
    let mut pings = pings(of, &columns, &mut planned);
    let mut copied = false;
    if !kernel_unreadable {
        match copy::try_all(machine, loaded, &planned, &mut entries, &mut pings) {
            Ok(missing) => {
                copied = true;
                unknown.extend(missing.into_iter().map(|it| format!("in the copy: {it}")));
            }
            Err(failure) => unknown.push(format!("what a copy would meet: {}", failure.line())),
        }
    }
    let own = machine.addresses()?;
    let own: Vec<IpAddr> = own.into_iter().filter(|it| !it.is_loopback()).collect();
    let mut seen = probes::send(&planned, request, &own)?;
    unknown.append(&mut seen.unseen);
    if matches!(kernel, verdicts::Kernel::Rules(..)) && !seen.sightings.is_empty() {
        let after = machine.rules()?.map_or(Vec::new(), |it| it.tallies);
        silence::explain(&mut seen.sightings, &before, &after, machine);
    }
    let mut stopped = Vec::new();
    for sighting in seen.sightings {
        if sighting.came_this_way(machine)? {
            stopped.extend(sighting.note(&mut entries, &mut pings, &mut unknown));
        }
    }
    for from in entries.iter_mut().flat_map(|entry| &mut entry.from).chain(&mut pings) {
        from.sum_up();
    }
    // Only now: what was tried belongs to the places that they had.
    entries.sort_by_key(|it| (it.port, it.protocol));
    Ok(Report {
        host: loaded.plan.host.clone(),
        listeners: entries,
        came_within_seconds: comers.map(|it| it.keeps),
        pings,
        findings: about_listeners(machine, loaded)?,
        copied,
        stopped_on_the_way: on_the_way(&stopped),
        unknown,
        kernel_unreadable,
    })
}

/// What leads packets elsewhere; where that cannot be read, that is noted.
fn ways<'m>(
    machine: &'m dyn Machine,
    listeners: &[Listener],
    names: &Names,
    unknown: &mut Vec<String>,
) -> Ways<'m> {
    let mut ways = Ways::of(machine).unwrap_or_else(|failure| {
        unknown.push(format!("where others lead packets elsewhere: {}", failure.line()));
        Ways::default()
    });
    for (version, file) in OLDER_TABLES {
        if machine.setting(file).is_ok_and(|it| it.lines().any(|it| it == "nat")) {
            unknown.push(format!(
                "where the kernel's older packet filter leads packets elsewhere over {version}: it does not tell"
            ));
        }
    }
    let whose = |it: &Listener| ((it.protocol, it.port), names.of_listener(it));
    ways.whose = listeners.iter().map(whose).collect();
    ways
}

/// The ports of a machine that rules of others lead elsewhere, with what the policy says of whoever comes there.
///
/// # Errors
/// [`Failure`] if the kernel does not let us read, or a sender cannot be understood.
pub(crate) fn published_ports(
    machine: &dyn Machine,
    loaded: &Loaded,
    from: &[String],
) -> Result<Vec<Entry>, Failure> {
    let columns = senders::columns(&loaded.policy, from)?;
    let of = (loaded, &verdicts::Kernel::Unreadable, &Ways::of(machine)?);
    Ok(published::entries(of, &columns, &[], &mut Planned::default()))
}

/// What is found about what listens, and about what should.
fn about_listeners(machine: &dyn Machine, loaded: &Loaded) -> Result<Vec<crate::Finding>, Failure> {
    let found = live::findings(machine, loaded)?.found.into_iter();
    let about = |it: &analysis::Finding| ABOUT_LISTENERS.contains(&it.code);
    Ok(found.filter(about).map(finding::words).collect())
}

/// What the kernel holds of ours; `None` if it may not be read, which is noted.
fn in_force(
    machine: &dyn Machine,
    unknown: &mut Vec<String>,
) -> Result<Option<Option<Snapshot>>, Failure> {
    match machine.rules() {
        Ok(snapshot) => Ok(Some(snapshot)),
        Err(error @ LinuxError::NotPermitted { .. }) => {
            unknown.push(format!("the kernel's rules: {error}; run it as root"));
            Ok(None)
        }
        Err(error) => Err(error.into()),
    }
}

/// What never arrived, one sentence for each way of knocking.
fn on_the_way(stopped: &[Stopped]) -> Vec<String> {
    let mut groups: Vec<(String, bool, Vec<&str>)> = Vec::new();
    for Stopped { place, knock, certain } in stopped {
        let what = match knock {
            Knock::Ping => "ping".to_owned(),
            Knock::Port(..) => format!("{}/{}", knock.port(), knock.word()),
        };
        match groups.iter_mut().find(|it| it.0 == what && it.1 == *certain) {
            Some(group) if group.2.contains(&place.as_str()) => {}
            Some(group) => group.2.push(place),
            None => groups.push((what, *certain, vec![place])),
        }
    }
    let words = |(what, certain, places): (String, bool, Vec<&str>)| {
        let perhaps = if certain { "never arrived here" } else { "perhaps never arrived here" };
        format!("{what} from {} {perhaps}", places.join(", "))
    };
    groups.into_iter().map(words).collect()
}

const ABOUT_LISTENERS: [Code; 8] = [
    Code::NoListener,
    Code::LoopbackListener,
    Code::UnmentionedListener,
    Code::PublishedPastPolicy,
    Code::LedElsewhere,
    Code::WiderThanUsed,
    Code::OtherProgram,
    Code::OtherUser,
];

/// Whom the host answers pings.
fn pings((loaded, kernel, ways): Of<'_>, columns: &[Column], planned: &mut Planned) -> Vec<From> {
    let own = |family| loaded.plan.here(family).is_some();
    let mut pings = Vec::new();
    for column in columns {
        for family in Family::BOTH {
            if !column.senders.has(family) || !own(family) {
                continue;
            }
            let wanted = Wanted::ping(family);
            let parts = verdicts::parts(&wanted, family, loaded, kernel, ways, &column.senders);
            planned.plan_ping(column, &parts, pings.len());
            let parts = parts.iter().map(|part| part.words(&loaded.plan, column)).collect();
            pings.push(From::of(column.name.clone(), family.into(), parts));
        }
    }
    pings
}

/// Whose the kernel's rules take a socket for, if it is not whose it is; only rules that name a program or
/// user take note of that.
fn taken_for(wanted: Wanted, names: &Names) -> Option<String> {
    let Wanted { whose, marked, .. } = wanted;
    // Where marks are not shown, nothing else is known of it.
    if whose == marked {
        return None;
    }
    (names.to_be_marked(whose) != marked).then(|| match marked {
        Whose { program: None, user: None } => "nobody".into(),
        Whose { program: Some(program), user: None } => program,
        Whose { program: None, user: Some(user) } => format!("user {user}"),
        Whose { program: Some(program), user: Some(user) } => format!("{program} by {user}"),
    })
}

/// How a listener is seen from each place.
fn views(
    listener: &Listener,
    wanted: &Wanted,
    (loaded, kernel, ways): Of<'_>,
    columns: &[Column],
    planned: &mut Planned,
) -> Vec<From> {
    let families = families(listener);
    let mut from = Vec::new();
    for column in columns {
        for &family in &families {
            if !column.senders.has(family) {
                continue;
            }
            let parts = verdicts::parts(wanted, family, loaded, kernel, ways, &column.senders);
            planned.plan(listener, column, &parts, from.len());
            let parts = parts.iter().map(|part| part.words(&loaded.plan, column)).collect();
            from.push(From::of(column.name.clone(), family.into(), parts));
        }
    }
    planned.next_listener();
    from
}

/// The IP versions that a listener takes.
fn families(listener: &Listener) -> Vec<Family> {
    match (listener.address.is_ipv4(), listener.dual) {
        (true, _) => vec![Family::V4],
        (false, false) => vec![Family::V6],
        (false, true) => Family::BOTH.to_vec(),
    }
}

/// An entry with what its port is for, and what has come there.
fn with_port(entry: Entry, listener: &Listener, loaded: &Loaded, comers: Option<&Comers>) -> Entry {
    let port = listener.port;
    let meanings = loaded.policy.meanings(listener.protocol, port, port);
    let door = Door::Ports(listener.protocol.number(), port, port);
    Entry {
        meanings: meanings.into_iter().map(str::to_owned).collect(),
        came: comers.map(|it| it.at(&[door])),
        ..entry
    }
}

fn entry(listener: &Listener, taken_for: Option<String>, user: String, from: Vec<From>) -> Entry {
    let owner = listener.owner.as_ref();
    Entry {
        protocol: listener.protocol.into(),
        address: listener.address.to_string(),
        port: listener.port,
        meanings: Vec::new(),
        versions: families(listener).into_iter().map(Into::into).collect(),
        program: owner.and_then(|it| it.program.as_ref()).map(|it| it.display().to_string()),
        taken_for,
        pid: owner.map(|it| it.pid),
        user,
        published: None,
        came: None,
        from,
    }
}
