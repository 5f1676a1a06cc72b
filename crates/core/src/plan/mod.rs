//! What a policy means for one host: every name replaced by what it stands for.

mod baseline;
mod condition;
mod evaluate;
mod fingerprint;
mod model;
mod placed;
mod related;
mod resolve;
mod served;
mod sweep;

pub use baseline::TURNED_AWAY;
pub use condition::{Condition, InterfaceTest, LOOPBACK, Miss, told_apart};
pub use evaluate::{Decided, Step};
pub(crate) use model::LATER;
pub use model::{Act, Chain, Decision, HostPlan, Idle, Kind, RuleId, Written};
pub use placed::{LinkSeen, Placed, Standing, Whole};
pub(crate) use resolve::published;
pub use resolve::{UnknownHost, resolve, resolve_by};
pub use sweep::{Decider, Part, Question, sweep};
