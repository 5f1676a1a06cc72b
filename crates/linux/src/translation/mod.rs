//! Where packets go whose addresses others translate on their way in: which of them, to where, by which table. Told from
//! what the kernel holds, packet by packet; what is not understood is said to be unknown, never to be nothing.

mod guard;
pub(crate) mod held;
pub(crate) mod leads;
mod load;
mod older;
mod others;
mod points;
mod registers;
mod run;
mod step;
mod traveller;
mod what;

use crate::LinuxError;
use crate::addresses::Link;
use crate::transport::Transport;
use held::{Others, TableName};
use std::cmp::Ordering;
use std::net::IpAddr;
use step::{End, Run};
use tipstaff_core::plan::Decider;
use tipstaff_core::space::AddressSet;
use tipstaff_wire::nf_tables::{Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6};

pub use traveller::Traveller;

/// `NF_IP_PRI_NAT_DST` (linux/netfilter_ipv4.h): there all chains that translate are asked, by their own priorities.
const TRANSLATES_AT: i32 = -100;

/// `NF_IP_PRI_CONNTRACK`: there packets come to connection tracking.
const TRACKED_AT: i32 = -200;

/// Who translates.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Translator {
    /// The table's name.
    pub table: String,
    /// The chain that packets enter.
    pub chain: String,
}

/// Where a packet goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Course {
    /// Where it says.
    AsItIs,
    /// Elsewhere.
    Translated {
        /// To this address; may be this host's own.
        to: IpAddr,
        /// To this port, if its protocol has any.
        port: Option<u16>,
        /// By whom.
        by: Translator,
    },
    /// Nowhere: somebody who translates, or writes on packets, keeps it out. Who does neither is not asked.
    KeptOut(Translator),
    /// It cannot be told.
    Unknown {
        /// Because of whom.
        by: Translator,
        /// Why, as the end of a sentence.
        why: String,
    },
}

impl Course {
    fn by(&self) -> Option<Translator> {
        match self {
            Self::AsItIs => None,
            Self::Translated { by, .. } | Self::Unknown { by, .. } | Self::KeptOut(by) => {
                Some(by.clone())
            }
        }
    }
}

/// A chain that packets enter before it is decided where they go.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Entrance {
    table: TableName,
    chain: String,
    translates: bool,
    /// Whether something behind it leads packets elsewhere, as far as it is understood.
    leads: bool,
    /// Whether something in its table keeps packets from being tracked, or may.
    untracks: bool,
    drops: bool,
    /// Whether something behind it keeps packets out, or may.
    keeps_out: bool,
    priority: i32,
}

/// What others translate on its way in.
#[derive(Clone, Debug, Default)]
pub struct Translations {
    others: Others,
    /// In the order in which packets come to them.
    entrances: Vec<Entrance>,
    /// The same, but for tables at the same priority, of which the kernel does not tell which was there first.
    otherwise: Option<Vec<Entrance>>,
    links: Vec<Link>,
}

impl Translations {
    /// Reads them; `links` are this host's own, whose addresses make a difference.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn read(transport: &mut dyn Transport, links: Vec<Link>) -> Result<Self, LinuxError> {
        let mut others = Others::read(transport, held::is_on_the_way_in)?;
        let mut at: Vec<((i32, i32), Entrance)> = Vec::new();
        for chain in std::mem::take(&mut others.chains) {
            let Some(hook) = chain.hook.filter(|_| held::is_on_the_way_in(&chain)) else {
                continue;
            };
            let translates = chain.kind.as_deref() == Some("nat");
            let table = (chain.family, chain.table);
            // Others can only keep packets out, which is told elsewhere.
            if !translates && !others.marks(&table) && !others.leads(&table) {
                continue;
            }
            others.fill(transport, &table, &chain.name)?;
            let priority = if translates { TRANSLATES_AT } else { hook.priority };
            let drops = chain.policy == Some(0);
            let untracks = others.untracks(&table);
            let (chain, leads) = (chain.name, false);
            let keeps_out = drops;
            let entrance =
                Entrance { table, chain, translates, leads, untracks, drops, keeps_out, priority };
            at.push(((priority, hook.priority), entrance));
        }
        let found = Self { others, links, ..Self::default() };
        for (_, entrance) in &mut at {
            entrance.leads = found.does(entrance, leads::leads);
            entrance.keeps_out |= found.does(entrance, leads::keeps_out);
        }
        // Of two at the same priority, the one that came later is asked first (nf_hook_entries_grow in
        // net/netfilter/core.c). Within a table they are told in the order in which they came.
        at.reverse();
        at.sort_by_key(|it| it.0);
        let tied = |a: &((i32, i32), Entrance), b: &((i32, i32), Entrance)| {
            a.0 == b.0 && a.1.table != b.1.table
        };
        let otherwise = at.windows(2).any(|it| tied(&it[0], &it[1])).then(|| {
            let mut turned = at.clone();
            turned.sort_by(|a, b| (a.0, &b.1.table).cmp(&(b.0, &a.1.table)));
            if turned.iter().map(|it| &it.1).eq(at.iter().map(|it| &it.1)) {
                turned.sort_by(|a, b| (a.0, &a.1.table).cmp(&(b.0, &b.1.table)));
            }
            turned.into_iter().map(|it| it.1).collect()
        });
        Ok(Self { entrances: at.into_iter().map(|it| it.1).collect(), otherwise, ..found })
    }

    /// Whether nobody translates anything.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.entrances.iter().any(|it| it.leads)
    }

    /// Whether something behind an entrance does, or may do, what is asked for.
    fn does(&self, entrance: &Entrance, what: fn(&Expression) -> bool) -> bool {
        self.others.reached(&entrance.table, &entrance.chain).iter().any(|chain| {
            let rules = self.others.rules(&entrance.table, chain).iter();
            rules.flat_map(|it| &it.expressions).any(what)
        })
    }

    /// Where a packet goes.
    #[must_use]
    pub fn course(&self, packet: &Traveller) -> Course {
        let course = self.course_by(&self.entrances, packet);
        let other = self.otherwise.as_ref().map(|it| self.course_by(it, packet));
        match (course.by(), other) {
            (by, Some(other)) if other != course => Course::Unknown {
                by: by.or_else(|| other.by()).unwrap_or_default(),
                why: "the kernel does not tell which of two tables at the same priority it asks first".into(),
            },
            _ => course,
        }
    }

    fn course_by(&self, entrances: &[Entrance], packet: &Traveller) -> Course {
        let mut run = Run {
            others: &self.others,
            links: &self.links,
            mark: [Some(0); 4],
            untracked: Some(false),
            before_tracking: Some(true),
        };
        let mut packet = packet.clone();
        let mut course = Course::AsItIs;
        let mut doubt = None;
        for entrance in entrances {
            let version = if packet.destination.is_ipv4() { FAMILY_IPV4 } else { FAMILY_IPV6 };
            let sees = [FAMILY_INET, version].contains(&entrance.table.0);
            let done =
                entrance.translates && (course != Course::AsItIs || run.untracked == Some(true));
            if !sees || done {
                continue;
            }
            let by =
                || Translator { table: entrance.table.1.clone(), chain: entrance.chain.clone() };
            run.before_tracking = match entrance.priority.cmp(&TRACKED_AT) {
                Ordering::Less => Some(true),
                Ordering::Greater => Some(false),
                Ordering::Equal => None,
            };
            match run.chain(&packet, &entrance.table, &entrance.chain, 0) {
                End::Dropped => return Course::KeptOut(by()),
                End::Behind if entrance.drops => return Course::KeptOut(by()),
                End::Behind | End::Accepted => {}
                End::Translated(..) if run.untracked.is_none() => {
                    let why = "connection tracking, without which nothing is led, may let it alone";
                    return Course::Unknown { by: by(), why: why.into() };
                }
                End::Translated(to, port) => {
                    packet.destination = to.unwrap_or(packet.destination);
                    packet.ports = packet.ports.map(|it| (it.0, port.unwrap_or(it.1)));
                    let port = packet.ports.map(|it| it.1);
                    course = Course::Translated { to: packet.destination, port, by: by() };
                }
                End::Unknown(why) if entrance.leads => {
                    return Course::Unknown { by: by(), why };
                }
                // It may keep a packet out, and leads none elsewhere; what it writes on it is not known.
                End::Unknown(why) => {
                    run.forget(entrance.untracks);
                    if entrance.keeps_out && doubt.is_none() {
                        doubt = Some(Course::Unknown { by: by(), why });
                    }
                }
            }
        }
        match (course, doubt) {
            // It is led elsewhere, unless it is kept out.
            (Course::Translated { .. }, Some(doubt)) => doubt,
            (course, _) => course,
        }
    }
}

impl Decider for Translations {
    fn sender_sets(&self) -> Vec<std::borrow::Cow<'_, AddressSet>> {
        self.sources().into_iter().map(std::borrow::Cow::Owned).collect()
    }
}
