//! What is expected of a host, in words, and whether it holds.

use crate::vocabulary as say;
use crate::{Loaded, Written};
use serde::Serialize;
use tipstaff_core::analysis::failing;
use tipstaff_core::policy::{Host, Origin};

/// What is expected of a host.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host.
    pub host: String,
    /// Its expectations: those of its labels first.
    pub expectations: Vec<Expectation>,
}

/// One statement that must hold.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Expectation {
    /// Its number among those of the host, or of its label, counted from 1.
    pub number: usize,
    /// The label that brings it; `null` for one of the host's own.
    pub label: Option<String>,
    /// What all packets must meet.
    pub verdict: say::Verdict,
    /// Which way they go.
    pub direction: say::Direction,
    /// The traffic, as written.
    pub traffic: Vec<String>,
    /// The senders, as written; none for everybody.
    pub from: Vec<String>,
    /// The receivers, likewise.
    pub to: Vec<String>,
    /// By which interfaces they come in, as written; none: by any. One with `!`: by all others.
    pub ingress: Vec<String>,
    /// By which they go out, likewise.
    pub egress: Vec<String>,
    /// The ports that callers asked for, where address translation led them here, as written; none: led or not.
    pub published: Vec<String>,
    /// Whether it is about every packet; else about the first ones of connections.
    pub every_packet: bool,
    /// Parts of the baseline whose packets it is not about.
    pub besides: Vec<String>,
    /// The postures in which it must hold, as written; none: while no posture is in force.
    pub postures: Vec<String>,
    /// Whether it holds for every packet that it is about, in each of them.
    pub holds: bool,
    /// Why it must.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: Written,
}

/// Lists what is expected of the host.
pub fn report(loaded: &Loaded) -> Report {
    let host = loaded.section();
    let all = host.map_or(&[][..], |it| &it.expectations);
    let broken = broken(loaded);
    let expectations = all.iter().enumerate().map(|(at, it)| Expectation {
        number: all[..=at].iter().filter(|other| other.label == it.label).count(),
        label: it.label.clone(),
        verdict: it.verdict.into(),
        direction: it.direction.into(),
        traffic: it.traffic_terms.clone(),
        from: it.from_terms.clone(),
        to: it.to_terms.clone(),
        ingress: it.ingress.clone(),
        egress: it.egress.clone(),
        published: it.published_terms.clone(),
        every_packet: it.every_packet,
        besides: it.besides.clone(),
        postures: it.postures.clone(),
        holds: !broken.contains(&it.origin),
        why: it.why.clone(),
        origin: (&it.origin).into(),
    });
    Report { host: loaded.plan.host.clone(), expectations: expectations.collect() }
}

/// Where those are written that do not hold in some posture in which they must.
fn broken(loaded: &Loaded) -> Vec<Origin> {
    let Some(section) = loaded.section() else { return Vec::new() };
    let of = |loaded: &Loaded| -> Vec<Origin> {
        let expected = loaded.section().into_iter().flat_map(Host::expected);
        failing(&loaded.plan, expected).iter().map(|it| it.expectation.origin.clone()).collect()
    };
    let mut broken = of(loaded);
    if section.posture.is_none() {
        for posture in &section.postures {
            let mut within = loaded.clone();
            if within.in_posture(&posture.name).is_ok() {
                broken.extend(of(&within));
            }
        }
    }
    broken
}
