//! Access control lists as the IETF models them (RFC 8519): written from a plan, and read as a policy.
//!
//! They are stateless lists of packets. What they cannot say is left out in such a way that no list lets
//! in more than the policy does, and named.

mod export;
mod model;
mod read;

pub use export::{Exported, Loss, export};
pub use model::{Ace, Acl, Document};
pub use read::{NotTaken, Several, Taken, taken};
