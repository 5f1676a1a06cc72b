//! What is reachable from where, in rows and columns.

use crate::came::{Came, Comers, Door};
use crate::led::{Led, Published, Ways};
use crate::reach::senders::{Column, columns};
use crate::reach::verdicts::{Fares, Kernel, Wanted, parts};
use crate::reach::{self, Entry, From};
use crate::receivers::Names;
use crate::vocabulary as say;
use crate::{Failure, Loaded};
use serde::Serialize;
use std::collections::BTreeSet;
use tipstaff_core::plan::{Condition, Kind};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{Direction, Family, RangeSet, Transport};
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Whose;
use tipstaff_linux::sockets::{Listener, PortProtocol};

const CLIENT_PORT: u16 = 49_152;

/// Places across, ports down.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Matrix {
    /// The places, in the order of the columns.
    pub places: Vec<String>,
    /// For how many seconds the kernel remembers what has come; `null` if the machine was not looked at, or it
    /// remembers nothing.
    pub came_within_seconds: Option<u32>,
    /// One row for ports that nobody tells apart.
    pub rows: Vec<Row>,
}

/// Ports that nobody tells apart.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// Such as `443/tcp+udp`, `ping`, `every other port`.
    pub what: String,
    /// What the policy's services say that they are for; none if nothing.
    pub meanings: Vec<String>,
    /// The programs that listen there; `null` if the machine was not looked at.
    pub programs: Option<Vec<String>>,
    /// What has come there; `null` if that is not known.
    pub came: Option<Came>,
    /// What that is about.
    #[serde(skip)]
    doors: Vec<Door>,
    /// One cell for each place.
    pub cells: Vec<Cell>,
}

/// What senders of a place meet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Cell {
    /// `open`, `rate` (open up to a rate), `refused` (with an answer), `silence`, `partly` if not
    /// all fare alike, or `-` if the place has no address that could come here.
    pub word: say::Reach,
    /// Where not all fare alike: who meets what.
    pub parts: Vec<String>,
    /// The names of the decisions that say so.
    pub by: Vec<String>,
    /// What other witnesses saw, in words.
    pub seen: Vec<String>,
    /// Whether all witnesses that spoke agree; `null` if only one did.
    pub agree: Option<bool>,
}

/// Makes the matrix. `listeners` and `reached` are of this machine, if it is the host.
///
/// # Errors
/// [`Failure`] never, in fact: no place is asked for by name.
pub(super) fn matrix(
    machine: &dyn Machine,
    loaded: &Loaded,
    listeners: &[Listener],
    reached: Option<&reach::Report>,
) -> Result<Matrix, Failure> {
    let (columns, live) = (columns(&loaded.policy, &[])?, reached.is_some());
    let names = Names::of(machine, loaded);
    // What could not be looked at, `reach` has said.
    let ways = if live { Ways::of(machine).unwrap_or_default() } else { Ways::default() };
    let senders: Vec<_> = columns.iter().map(|it| &it.senders).collect();
    let published = ways.published(loaded, &senders);
    let elsewhere = |wanted: &dyn Fn(Family) -> Wanted, led: bool| -> Vec<Cell> {
        columns.iter().map(|column| cell((loaded, &ways), column, wanted, led)).collect()
    };
    let mut rows: Vec<Row> = Vec::new();
    let mut others: Vec<Row> = Vec::new();
    for protocol in PortProtocol::ALL {
        let written = written(loaded, protocol);
        for (first, last) in segments(&written, listeners, &published, protocol) {
            let is_led = |it: &&Published| it.protocol == protocol && it.ports.contains(&first);
            let led = published.iter().find(is_led);
            let transport = transport(protocol, first);
            let door = Door::Ports(protocol.number(), first, last);
            let here = |it: &&Listener| {
                it.protocol == protocol && it.port == first && !it.address.is_loopback()
            };
            let heard: Vec<&Listener> = listeners.iter().filter(here).collect();
            let whose = match heard.first() {
                Some(listener) => names.of_listener(listener),
                None => named_for(loaded, protocol, first),
            };
            let wanted =
                |_| Wanted { at: None, transport, marked: whose.clone(), whose: whose.clone() };
            let mut cells = elsewhere(&wanted, led.is_some() && heard.is_empty());
            let mentioned = written.iter().any(|set| set.contains(first));
            if heard.is_empty() && !mentioned && led.is_none() {
                match others.iter_mut().find(|row| row.cells == cells) {
                    Some(row) => row.doors.push(door),
                    None => {
                        let what = format!("every other port ({})", protocol.as_str());
                        others.push(Row::new(what, door, cells));
                    }
                }
                continue;
            }
            for listener in &heard {
                let address = listener.address.to_string();
                let here = |it: &Entry| it.published.is_none() && it.address == address;
                witnesses(&mut cells, &columns, reached, (protocol, first), here);
            }
            let mut programs = live.then(|| programs(&heard));
            if let Some(led) = led {
                witnesses(&mut cells, &columns, reached, (protocol, *led.ports.start()), |it| {
                    it.published.is_some()
                });
                programs.get_or_insert_default().push(format!("led elsewhere by table {}", led.by));
            }
            let what = ports(protocol, first, last);
            // Where nobody is seen to listen, the cells are about who is to.
            let what =
                if heard.is_empty() && led.is_none() { with_owner(&what, &whose) } else { what };
            let meanings = loaded.policy.meanings(protocol, first, last);
            let meanings = meanings.into_iter().map(str::to_owned).collect();
            add(&mut rows, Row { meanings, programs, ..Row::new(what, door, cells) });
        }
    }
    rows.sort_by_key(|row| row.what.split(['/', '-']).next().and_then(|it| it.parse::<u32>().ok()));
    let pings = elsewhere(&Wanted::ping, false);
    rows.push(Row::new("ping".to_owned(), Door::Ping, pings));
    if let [only] = &mut others[..] {
        only.what = "every other port".into();
    }
    rows.extend(others);
    let comers = if live { Comers::look(machine) } else { None };
    for row in &mut rows {
        row.came = comers.as_ref().map(|it| it.at(&row.doors));
    }
    let places = columns.into_iter().map(|it| it.name).collect();
    Ok(Matrix { places, came_within_seconds: comers.map(|it| it.keeps), rows })
}

impl Row {
    fn new(what: String, door: Door, cells: Vec<Cell>) -> Self {
        let doors = vec![door];
        Self { what, meanings: Vec::new(), programs: None, came: None, doors, cells }
    }
}

fn ports(protocol: PortProtocol, first: u16, last: u16) -> String {
    match last == first {
        true => format!("{first}/{}", protocol.as_str()),
        false => format!("{first}-{last}/{}", protocol.as_str()),
    }
}

fn transport(protocol: PortProtocol, destination: u16) -> Transport {
    Transport::Ports { protocol, source: CLIENT_PORT, destination }
}

/// The sets of ports that written rules speak of, but for those that speak of all.
fn written(loaded: &Loaded, protocol: PortProtocol) -> Vec<RangeSet<u16>> {
    let decisions = &loaded.plan.chain(Direction::Inbound).decisions;
    let active = decisions.iter().filter(|it| it.idle.is_none() && it.id.kind == Kind::Rule);
    let ports = active.flat_map(|it| &it.conditions).map(|it| &it.traffic.ports[protocol]);
    ports.filter(|it| !it.is_full() && !it.is_empty()).cloned().collect()
}

/// The ports, cut wherever a rule or a listener tells them apart.
fn segments(
    written: &[RangeSet<u16>],
    listeners: &[Listener],
    published: &[Published],
    protocol: PortProtocol,
) -> Vec<(u16, u16)> {
    let mut starts = BTreeSet::from([0]);
    let mut cut = |first: u16, last: u16| {
        starts.insert(first);
        starts.extend(last.checked_add(1));
    };
    for &(first, last) in written.iter().flat_map(RangeSet::ranges) {
        cut(first, last);
    }
    for led in published.iter().filter(|it| it.protocol == protocol) {
        cut(*led.ports.start(), *led.ports.end());
    }
    let here = |it: &&Listener| it.protocol == protocol && !it.address.is_loopback();
    for listener in listeners.iter().filter(here) {
        cut(listener.port, listener.port);
    }
    let ends = starts.iter().skip(1).map(|it| it - 1).chain([u16::MAX]);
    starts.iter().copied().zip(ends).collect()
}

/// Who is to listen at a port by the rules, where nobody is seen to.
fn named_for(loaded: &Loaded, protocol: PortProtocol, port: u16) -> Whose {
    let decisions = &loaded.plan.chain(Direction::Inbound).decisions;
    let conditions = decisions.iter().filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
    let about = |it: &&Condition| it.traffic.ports[protocol].contains(port);
    let first = conditions.filter(about).find(|it| it.names_owners());
    first.map_or_else(Whose::default, |it| Whose {
        user: it.users.first().cloned(),
        program: it.programs.first().cloned(),
    })
}

/// A port with whose socket is to listen there.
fn with_owner(what: &str, whose: &Whose) -> String {
    let program = whose.program.as_deref().map(|it| it.rsplit('/').next().unwrap_or(it));
    let of = program.map(|it| format!(" of {it}")).unwrap_or_default();
    let by = whose.user.as_ref().map(|it| format!(" by {it}")).unwrap_or_default();
    format!("{what}{of}{by}")
}

fn programs(heard: &[&Listener]) -> Vec<String> {
    let mut programs: Vec<String> = Vec::new();
    for listener in heard {
        let file = listener.owner.as_ref().and_then(|owner| owner.program.as_ref());
        let program = file.map_or_else(|| "(not known)".to_owned(), |it| it.display().to_string());
        if !programs.contains(&program) {
            programs.push(program);
        }
    }
    programs
}

/// Adds a row; a port that fares alike over several protocols gets one row.
fn add(rows: &mut Vec<Row>, row: Row) {
    if let Some((port, protocol)) = row.what.split_once('/') {
        let same = |it: &&mut Row| {
            it.what.split_once('/').is_some_and(|other| other.0 == port)
                && it.cells == row.cells
                && it.programs == row.programs
                && it.meanings == row.meanings
        };
        if let Some(both) = rows.iter_mut().find(same) {
            both.what = format!("{}+{protocol}", both.what);
            both.doors.extend(row.doors);
            return;
        }
    }
    rows.push(row);
}

/// What the policy says of senders of one place.
fn cell(
    (loaded, ways): (&Loaded, &Ways<'_>),
    column: &Column,
    wanted: &dyn Fn(Family) -> Wanted,
    led: bool,
) -> Cell {
    let mut fares: Vec<Fares> = Vec::new();
    for family in Family::BOTH {
        if loaded.plan.here(family).is_some() && column.senders.has(family) {
            let kernel = Kernel::Unreadable;
            fares.extend(parts(&wanted(family), family, loaded, &kernel, ways, &column.senders));
        }
    }
    if led {
        // Whoever is led nowhere meets nobody there.
        fares.retain(|it| it.fate.led.is_some());
    }
    let mut by: Vec<String> = Vec::new();
    for fare in &fares {
        let name = fare.fate.policy.by.to_string();
        if !by.contains(&name) {
            by.push(name);
        }
    }
    let words: BTreeSet<say::Reach> = fares.iter().map(word).collect();
    let mut parts = Vec::new();
    if words.len() > 1 {
        for fare in &fares {
            parts.push(part(column, fare, &fares));
        }
    }
    let word = match words.len() {
        0 => say::Reach::Nobody,
        1 => words.into_iter().next().unwrap_or(say::Reach::Nobody),
        _ => say::Reach::Partly,
    };
    Cell { word, parts, by, seen: Vec::new(), agree: None }
}

/// What some senders meet who do not fare like the others of their place.
fn part(column: &Column, fare: &Fares, all: &[Fares]) -> String {
    let alike = all.iter().filter(|it| it.family == fare.family);
    let (mut same_senders, mut same_receivers) = (true, true);
    for other in alike {
        same_senders &= other.senders == fare.senders;
        same_receivers &= other.receivers == fare.receivers;
    }
    let senders = if same_senders { fare.family.to_string() } else { column.words(&fare.senders) };
    let list = |word: &str, items: &[String]| match items {
        [] => String::new(),
        items => format!(" {word} {}", items.join(", ")),
    };
    let receivers: Vec<String> = fare.receivers.iter().map(ToString::to_string).collect();
    let at = list("at", if same_receivers { &[] } else { &receivers });
    let ways: Vec<String> = fare.interfaces.iter().flatten().cloned().collect();
    format!("{} for {senders}{at}{}", word(fare), list("by", &ways))
}

fn word(fare: &Fares) -> say::Reach {
    if matches!(fare.fate.led, Some(Led::NotKnown(..))) {
        return say::Reach::Unknown;
    }
    let decided = &fare.fate.policy;
    match (decided.verdict, decided.limited) {
        (Verdict::Allow, false) => say::Reach::Open,
        (Verdict::Allow, true) => say::Reach::Rate,
        (Verdict::Reject, _) => say::Reach::Refused,
        (Verdict::Deny, _) => say::Reach::Silence,
    }
}

/// Puts in what the other witnesses say of a listener.
fn witnesses(
    cells: &mut [Cell],
    columns: &[Column],
    reached: Option<&reach::Report>,
    (protocol, port): (PortProtocol, u16),
    is_it: impl Fn(&Entry) -> bool,
) {
    let mut entries = reached.into_iter().flat_map(|it| &it.listeners);
    let entry = entries.find(|it| it.port == port && it.protocol == protocol.into() && is_it(it));
    for (cell, column) in cells.iter_mut().zip(columns) {
        let views = entry.into_iter().flat_map(|it| &it.from).filter(|it| it.place == column.name);
        for from in views {
            let From { version, kernel, observed, agree, parts, .. } = from;
            let copy = parts.iter().find_map(|it| it.copy);
            let mut seen = vec![format!("kernel {kernel}")];
            seen.extend(copy.map(|it| format!("copy {it}")));
            seen.extend(observed.map(|it| format!("real connection {it}")));
            cell.seen.push(format!("{version}: {}", seen.join(", ")));
            cell.agree = match (cell.agree, agree) {
                (Some(a), Some(b)) => Some(a && *b),
                (a, b) => a.or(*b),
            };
        }
    }
}
