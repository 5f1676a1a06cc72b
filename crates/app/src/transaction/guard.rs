//! Nobody shuts themselves out, or somebody else, without knowing.

use super::super::receivers::Receivers;
use super::super::session::living;
use super::super::way::way;
use super::super::{Failure, Loaded};
use crate::load::name_of_this_machine;
use crate::store::{Docket, Home};
use tipstaff_core::analysis::{Obstacle, Part, obstacle};
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Time, Verdict};
use tipstaff_linux::{Machine, Session};

/// Rules that end within so many seconds are looked past.
const AHEAD: i64 = 3_600;

/// Refuses a policy under which the session that asks, or another remote shell session that lives
/// now, could not be opened again: now, or when rules have ended that end soon.
///
/// # Errors
/// [`Failure::Stopped`] with the session and what stands in its way.
pub(super) fn guard(machine: &dyn Machine, policy: &Loaded) -> Result<(), Failure> {
    let own = machine.own_session();
    // Where connections cannot be listed, the session that asks still is.
    let sessions = living(machine).unwrap_or_else(|_| own.into_iter().collect());
    // Where that cannot be known, no program is taken to listen.
    let receivers = Receivers::look(machine, policy).ok();
    let moments = moments(policy);
    for session in sessions {
        let way = way(machine, &session, receivers.as_ref());
        for (ended, plan) in &moments {
            if let Some(found) = obstacle(plan, &way) {
                return Err(refusal(&session, Some(session) == own, &found, ended.as_ref()));
            }
        }
    }
    Ok(())
}

/// The plan as it is now, and as it will be each time that rules end soon.
fn moments(policy: &Loaded) -> Vec<(Option<Time>, HostPlan)> {
    let now = policy.now.seconds();
    let mut ends: Vec<Time> = policy
        .plan
        .decisions()
        .filter(|it| it.1.idle.is_none())
        .filter_map(|it| it.1.until())
        .filter(|it| (now..=now + AHEAD).contains(&it.seconds()))
        .collect();
    ends.sort_unstable();
    ends.dedup();
    let mut moments = vec![(None, policy.plan.clone())];
    for end in ends {
        if let Ok(mut plan) = resolve(&policy.policy, &policy.plan.host, end) {
            if policy.without_programs {
                plan.leave_out_programs();
            }
            moments.push((Some(end), plan));
        }
    }
    moments
}

fn refusal(session: &Session, own: bool, found: &Obstacle<'_>, ended: Option<&Time>) -> Failure {
    let whose = match own {
        true => "this would lock you out: your session",
        false => "this would lock somebody out: a remote shell session",
    };
    let (client, port) = (session.client, session.port);
    let decision = found.decision;
    let origin = decision.origin.as_ref().map(|it| format!(" ({it})")).unwrap_or_default();
    let by = format!("`{}`{origin}", decision.id);
    let verdict = match decision.act.verdict() {
        Verdict::Allow => "allows too few",
        Verdict::Deny => "decides deny",
        Verdict::Reject => "decides reject",
    };
    let when = ended.map(|it| format!(" once a rule has ended at {it}")).unwrap_or_default();
    let what = match found.part {
        Part::Opening => format!("could not be opened again{when}; {by} {verdict}"),
        Part::Onward => format!("could be opened and would then fall silent{when}: {by} {verdict}"),
        Part::Answers => {
            format!("would get no answer{when}: outbound, {by} {verdict} for what the shell says")
        }
        Part::Neighbours => format!(
            "would not find the way over the link{when}: {by} {verdict} for neighbour discovery, \
             which IPv6 needs"
        ),
        Part::Rate(rate) => format!(
            "might not be opened again{when}: {by} allows {rate}, fewer than three connections a \
             minute"
        ),
    };
    let mend = match found.part {
        Part::Opening => format!(
            "allow it first: tipstaff rule add shell --allow {port}/tcp --from {client} --first"
        ),
        Part::Rate(_) => "give it a larger rate, or none for those who administer".into(),
        Part::Onward | Part::Answers => {
            "leave `replies` in the baseline on, or allow what it would admit".into()
        }
        Part::Neighbours => "leave `neighbours` in the baseline on".into(),
    };
    Failure::stopped(
        format!("{whose}, from {client} to {port}/tcp, {what}"),
        vec![
            mend,
            "or go on with --even-if-locked-out; without --keep, it goes back by itself".into(),
            "nothing was changed".into(),
        ],
    )
}

/// Refuses a policy of another machine: this one has addresses, and none of them is the host's, or the
/// docket of this namespace is another host's.
///
/// # Errors
/// [`Failure::Stopped`].
pub(crate) fn this_machine(
    machine: &dyn Machine,
    policy: &Loaded,
    home: &Home,
) -> Result<(), Failure> {
    let wanted = &policy.plan.host;
    // Whether the docket can be read at all is said elsewhere.
    let written = Docket::look(home).unwrap_or_default();
    let last = written.confirmed().and_then(|it| it.host.as_ref());
    if let Some(last) = last.filter(|it| *it != wanted) {
        return Err(Failure::stopped(
            format!(
                "`{wanted}` is another host than `{last}`, whose rules were confirmed here last"
            ),
            vec![
                format!("choose it with --host {last}, or keep another docket with --state PATH"),
                "or go on with --not-this-machine, as when a host got another name".into(),
                "nothing was changed".into(),
            ],
        ));
    }
    if policy.plan.moving {
        return by_name(policy, last.is_some());
    }
    let here: Vec<_> = machine.addresses()?.into_iter().filter(|it| !it.is_loopback()).collect();
    let meant = &policy.plan.addresses;
    // A machine that has no address yet may be any.
    let global = here.iter().any(|it| !is_of_link(it));
    if !global || here.iter().any(|it| meant.contains(it)) {
        return Ok(());
    }
    let shown = |list: &[std::net::IpAddr]| {
        let mut words: Vec<String> = list.iter().take(4).map(ToString::to_string).collect();
        if list.len() > words.len() {
            words.push("…".into());
        }
        words.join(", ")
    };
    Err(Failure::stopped(
        format!(
            "`{}` is another machine: it has {}, and this one has {}",
            policy.plan.host,
            shown(meant),
            shown(&here)
        ),
        vec![
            "choose this machine's section with --host NAME, or mend `addresses`".into(),
            "or go on with --not-this-machine".into(),
            "nothing was changed".into(),
        ],
    ))
}

/// A host without addresses is this machine by its name only, or since it was before.
fn by_name(policy: &Loaded, before: bool) -> Result<(), Failure> {
    let (name, wanted) = (name_of_this_machine(), &policy.plan.host);
    let is_it = policy.policy.host_for(&name).iter().any(|it| it.name == *wanted);
    if is_it || before {
        return Ok(());
    }
    Err(Failure::stopped(
        format!(
            "nothing says that `{wanted}` is this machine: it lists no addresses, and this machine's name \
             is `{}`",
            name.escape_debug()
        ),
        vec![
            format!("`tipstaff host change {wanted} --names {}` says so", name.escape_debug()),
            "or go on with --not-this-machine".into(),
            "nothing was changed".into(),
        ],
    ))
}

fn is_of_link(address: &std::net::IpAddr) -> bool {
    match address {
        std::net::IpAddr::V4(it) => it.is_link_local(),
        std::net::IpAddr::V6(it) => it.is_unicast_link_local(),
    }
}
