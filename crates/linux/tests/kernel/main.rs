//! Tests against the real kernel, each in a sealed process of its own.
//!
//! They work as root, and for ordinary users where the system lets users make user namespaces.
//! Where neither is so, they fail and say so: a check that did not happen is not a success.

mod actor;
mod adopted;
mod agreement;
mod breaking;
mod by_parts;
mod carried_over;
mod ending;
mod enforcement;
mod faults;
mod glancing;
mod in_flight;
mod instead;
mod labs;
mod leaking;
mod probing;
mod programs;
mod published;
mod rates;
mod rehearsing;
mod relations;
mod remembered;
mod replacing;
mod replay;
mod reported;
mod ring;
mod shutting;
mod sizes;
mod translated;
mod watched;
mod world;
