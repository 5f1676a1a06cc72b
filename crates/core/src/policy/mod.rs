//! From the text of a policy to what is written in it, with the place of every item kept.

mod code;
mod data;
mod diagnostic;
pub mod edit;
mod ends;
mod expectation_keys;
pub mod feed;
mod fleet;
mod fleet_keys;
mod iana;
mod interfaces;
mod logging;
mod model;
mod named;
mod posture;
mod rate;
mod read;
mod record;
mod schema;
mod seen;
mod shape;
mod snapshot;
mod source;
mod suggest;
mod table;
mod taken;
mod terms;
mod time;
mod unread;
mod verdict;
mod whereabouts;

pub use code::{Accepted, Code};
pub use data::{Data, is_country, is_far};
pub use diagnostic::{Diagnostic, Label, Patch, Severity};
pub use ends::Ends;
pub use fleet::{Fleet, FleetExpectation, FleetProbe, Named, Route};
pub(crate) use iana::known_service;
pub use iana::{KNOWN_SERVICES, KnownService};
pub use logging::{Level, Logging};
pub use model::{
    Baseline, Bundle, Default, Defaults, Expectation, Host, Interface, LabelSection, Log,
    PROGRAM_MARKS, Ping, Place, Policy, Posture, Rule, Service, ServicePort, Shell, TurnedAway,
    Use, Used, Written,
};
pub use rate::{Rate, RateError};
pub use read::{read, read_addresses, read_all, read_by, read_traffic, who_is_turned_away};
pub use record::{Record, Span};
pub use schema::SCHEMA;
pub use seen::deceives;
pub use shape::{KeySpec, Shape, TableSpec};
pub use snapshot::{Held, Snapshot};
pub use source::{Origin, Source};
pub use suggest::nearest;
pub use taken::{ALWAYS, NO_POSTURE, SHUT, Taken};
pub(crate) use terms::TRAFFIC_WORDS;
pub use terms::{ANYWHERE, ON_LINK, THIS_HOST, is_interface_name};
pub use time::Time;
pub use verdict::Verdict;
pub use whereabouts::{GatewaySeen, LinkPlace, When, Whereabouts};
