//! What stops a change, and what becomes of one that the kernel refuses.

use crate::given::{Desk, MENDED, answers, machine, policy, sluice};
use serde_json::json;
use std::time::Duration;
use tipstaff_app::store::{Docket, Home, State};
use tipstaff_app::transaction::{self, Options};
use tipstaff_app::vocabulary::Changed;
use tipstaff_app::{Failure, Outcome};
use tipstaff_linux::{Machine, Recorded};

fn options<'o>(machine: &'o dyn Machine, home: &'o Home) -> Options<'o> {
    Options {
        machine,
        home,
        keep: true,
        within: Duration::from_secs(60),
        dry: false,
        without_programs: false,
        even_if_locked_out: false,
        not_this_machine: false,
        all: false,
        log_for: None,
        posture: None,
        boot_memory: transaction::FOR_A_BOOT,
        tell: None,
    }
}

fn states(home: &Home) -> Vec<State> {
    Docket::look(home).expect("a docket").entries.iter().map(|it| it.state).collect()
}

/// Somebody whose session comes from here, and stands.
fn with_session(client: &str) -> Recorded {
    let mut answers = answers();
    answers["own_session"] =
        json!({"client": client, "client_port": 50_000, "server": "192.0.2.10", "port": 2202});
    let connection = json!({
        "own": "192.0.2.10:2202", "peer": format!("{client}:50000"), "established": true, "inode": 1
    });
    answers["under_way"][0][1]["told"].as_array_mut().expect("TCP's").push(connection);
    machine(answers)
}

#[test]
fn what_is_in_force_already_is_written_down_and_nothing_is_sent() {
    let (machine, desk) = (sluice(), Desk::new());
    let mended = policy(&machine, MENDED);
    let how = options(&machine, &desk.home);
    let report = transaction::enforce(&mended, &how).expect("nothing to send");
    assert_eq!((report.done, report.entry), (Changed::Unchanged, Some(1)));
    assert_eq!(states(&desk.home), [State::Confirmed]);
    // Then it is known, and not even written down.
    let report = transaction::enforce(&mended, &how).expect("nothing to do");
    assert_eq!((report.done, report.entry, report.living_on), (Changed::Unchanged, None, Some(2)));
    assert_eq!(states(&desk.home), [State::Confirmed]);
}

#[test]
fn a_change_that_cannot_be_made_is_written_down_as_failed() {
    let (machine, desk) = (sluice(), Desk::new());
    let how = Options { even_if_locked_out: true, ..options(&machine, &desk.home) };
    let widened = MENDED.replace("allow = [\"2202/tcp\"]", "allow = [\"2202/tcp\", \"2203/tcp\"]");
    let failure = transaction::enforce(&policy(&machine, &widened), &how).expect_err("refused");
    assert_eq!(failure.outcome(), Outcome::Refused);
    assert!(failure.line().contains("change a recorded machine"), "{}", failure.line());
    assert_eq!(states(&desk.home), [State::Failed]);
    for refused in
        [transaction::release(&how).map(drop), transaction::boot(&machine, &desk.home).map(drop)]
    {
        assert_eq!(refused.expect_err("refused").outcome(), Outcome::Refused);
    }
    assert_eq!(states(&desk.home), [State::Failed], "nothing was begun");
    let failure = transaction::confirm(&machine, &desk.home, false).expect_err("nothing waits");
    assert_eq!(
        (failure.outcome(), failure.line().as_str()),
        (Outcome::Usage, "nothing waits to be confirmed")
    );
}

#[test]
fn a_dry_run_tells_what_would_change_and_writes_nothing() {
    let (machine, desk) = (sluice(), Desk::new());
    let narrowed =
        MENDED.replace("allow = [\"80/tcp\", \"443/tcp+udp\"]", "allow = [\"443/tcp+udp\"]");
    let how = Options { dry: true, ..options(&machine, &desk.home) };
    let report = transaction::enforce(&policy(&machine, &narrowed), &how).expect("told");
    assert_eq!((report.done, report.entry), (Changed::WouldEnforce, None));
    let kinds: Vec<String> = report.effects.kinds.iter().map(ToString::to_string).collect();
    assert_eq!(kinds, ["closes"]);
    assert!(states(&desk.home).is_empty());
    let enforced = report.enforced.expect("which rules it concerns");
    assert_eq!(
        (enforced.changed, enforced.new, enforced.gone),
        (vec!["catalogue".to_owned()], vec![], vec![])
    );
}

#[test]
fn nobody_shuts_themselves_out() {
    let desk = Desk::new();
    let curator = with_session("198.51.100.7");
    let mended = policy(&curator, MENDED);
    let dry = |machine, home| Options { dry: true, ..options(machine, home) };
    transaction::enforce(&mended, &dry(&curator, &desk.home)).expect("curators may come");
    let stranger = with_session("203.0.113.66");
    let stopped = transaction::enforce(&mended, &dry(&stranger, &desk.home)).expect_err("stopped");
    let Failure::Stopped { message, help } = &stopped else { panic!("{}", stopped.line()) };
    assert_eq!(
        message,
        "this would lock you out: your session, from 203.0.113.66 to 2202/tcp, could not be opened again; \
         `nuisance` (policy.toml:33) decides deny"
    );
    assert!(help[0].contains("--allow 2202/tcp --from 203.0.113.66 --first"), "{help:?}");
    let wish = Options { even_if_locked_out: true, ..dry(&stranger, &desk.home) };
    transaction::enforce(&mended, &wish).expect("as wished");
    // Somebody else's session counts like one's own.
    let mut somebody = serde_json::to_value(&stranger).expect("answers");
    somebody["sessions_told"] = json!([somebody["own_session"].take()]);
    let somebody = machine(somebody);
    let stopped = transaction::enforce(&mended, &dry(&somebody, &desk.home)).expect_err("stopped");
    assert!(
        stopped.line().contains("lock somebody out: a remote shell session"),
        "{}",
        stopped.line()
    );
    // One that has ended does not.
    let mut ended = serde_json::to_value(&somebody).expect("answers");
    ended["under_way"][0][1]["told"].as_array_mut().expect("TCP's").pop();
    transaction::enforce(&mended, &dry(&machine(ended), &desk.home)).expect("nobody is there");
}

#[test]
fn another_machine_s_policy_is_refused() {
    let desk = Desk::new();
    let mut elsewhere = answers();
    elsewhere["addresses"] = json!({"told": ["127.0.0.1", "::1", "203.0.113.9", "fe80::1"]});
    let elsewhere = machine(elsewhere);
    let mended = policy(&elsewhere, MENDED);
    let dry = Options { dry: true, ..options(&elsewhere, &desk.home) };
    let stopped = transaction::enforce(&mended, &dry).expect_err("stopped");
    assert!(
        stopped.line().starts_with("`sluice` is another machine: it has 192.0.2.10"),
        "{}",
        stopped.line()
    );
    transaction::enforce(&mended, &Options { not_this_machine: true, ..dry }).expect("as wished");
    // One that has no address of its own yet may be any.
    let mut early = answers();
    early["addresses"] = json!({"told": ["127.0.0.1", "fe80::1"]});
    let early = machine(early);
    let dry = Options { dry: true, ..options(&early, &desk.home) };
    transaction::enforce(&mended, &dry).expect("it may be");
    // What cannot be read is no proof of anything.
    let mut unread = answers();
    unread["addresses"] = json!({"not_permitted": "list addresses"});
    let unread = machine(unread);
    let dry = Options { dry: true, ..options(&unread, &desk.home) };
    assert_eq!(
        transaction::enforce(&mended, &dry).expect_err("refused").outcome(),
        Outcome::Refused
    );
}

#[test]
fn rules_for_programs_need_what_the_machine_lacks() {
    let mut without = answers();
    without["lacking_for_programs"] =
        json!(["a kernel that describes its types (CONFIG_DEBUG_INFO_BTF)"]);
    let (machine, desk) = (machine(without), Desk::new());
    let text = MENDED
        .replace("name = \"metrics\"", "name = \"metrics\"\nprogram = \"/usr/sbin/catalogued\"");
    let named = policy(&machine, &text);
    let dry = Options { dry: true, ..options(&machine, &desk.home) };
    let failure = transaction::enforce(&named, &dry).expect_err("refused");
    assert!(matches!(failure, Failure::Refusal { .. }), "{}", failure.line());
    assert!(failure.line().contains("`metrics` names programs"), "{}", failure.line());
    let report =
        transaction::enforce(&named, &Options { without_programs: true, ..dry }).expect("told");
    assert_eq!(report.enforced.expect("told").left_out, ["metrics"]);
}

#[test]
fn a_policy_with_errors_is_not_enforced() {
    let (machine, desk) = (sluice(), Desk::new());
    let dry = Options { dry: true, ..options(&machine, &desk.home) };
    let broken = format!(
        "{MENDED}\n[[host.sluice.expect]]\ntraffic = [\"9100/tcp\"]\nverdict = \"deny\"\nfrom = [\"stacks\"]\n"
    );
    let wish = Options { even_if_locked_out: true, ..dry };
    let stopped = transaction::enforce(&policy(&machine, &broken), &wish).expect_err("stopped");
    assert!(stopped.line().starts_with("the review finds an error: "), "{}", stopped.line());
    // A shell that nobody reaches is one too, and can be wished for.
    let shut = MENDED.replace("labels = [\"edge\"]", "labels = [\"edge\"]\nshell = [\"22/tcp\"]");
    let shut = policy(&machine, &shut);
    let stopped = transaction::enforce(&shut, &dry).expect_err("stopped");
    assert!(stopped.line().contains("shell-lockout"), "{}", stopped.line());
    transaction::enforce(&shut, &wish).expect("as wished");
}
