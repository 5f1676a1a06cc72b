//! What rules really do: exact answers about whole regions of packets, and findings about
//! mistakes.
//!
//! Regions are lists of [`Piece`](crate::space::Piece)s. A question about a rule concerns only the
//! rules that overlap it, so that it is answered locally, however long the list is; the decision
//! diagrams of [`crate::meaning`], which describe everything at once, are asked only where taking
//! pieces apart would take too many steps.

mod budget;
mod compare;
mod deciding;
mod edited;
mod expect;
mod findings;
mod first;
mod hull;
mod index;
mod lines;
mod narrowing;
mod pairs;
mod parts;
mod question;
mod reopening;
mod samples;

pub use compare::{Change, Comparison, Noticed, Side, compare, compare_by, compare_decisions};
pub use expect::{Failing, failing};
pub use findings::{
    Contact, Facts, Finding, FindingKind, Listener, Mend, ProgramFile, Published, RoutingMark,
    Scope, Subject, Use, explain, kinds, nearly_everybody, odd_interface, reachable, review,
    review_by, review_errors, review_expectations, review_machine,
};
pub use first::First;
pub use lines::piece_of;
pub use narrowing::{Narrowed, Narrowness, lasting, narrowed};
pub use pairs::{
    FailingPair, Fared, HostWord, Judged, Leg, Met, Way, between, judge, met, own, ways,
};
pub use question::{Admitted, Share, admitted, ordinary, share_of, shares};
pub use reopening::{Obstacle, Part, Session, obstacle};

pub use crate::policy::Code;
