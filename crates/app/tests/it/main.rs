//! Use cases on a machine that was recorded: no kernel is asked, and none is changed.

mod changing;
mod fleets;
mod given;
mod looking;
