//! From the text of a policy to what is written in it, with the place of every item kept.

mod diagnostic;
mod model;
mod rate;
mod read;
mod schema;
mod source;
mod suggest;
mod table;
mod terms;

pub use diagnostic::{Diagnostic, Label, Patch, Severity};
pub use model::{
    Baseline, Bundle, Default, Defaults, Host, Interface, Log, Ping, Place, Policy, Rule, Service,
    Verdict, Written,
};
pub use rate::{Rate, RateError};
pub use read::{read, read_addresses, read_traffic};
pub use schema::{KeySpec, SCHEMA, Shape, TableSpec};
pub use source::{Origin, Source};
pub use suggest::nearest;
pub use terms::{ANYWHERE, BUILT_IN_PLACES};
