//! Each statement of the page about the language has a test that shows it to be so.

use crate::stated_more::SHOWN_BY_MORE;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

/// It leads to what follows, or continues what stands before it.
const NO_FACT: &str = "";

fn all_shown() -> impl Iterator<Item = (&'static str, &'static str)> {
    SHOWN_BY.into_iter().chain(SHOWN_BY_MORE)
}

/// How a statement begins, and the test: its file, and its name.
const SHOWN_BY: [(&str, &str); 142] = [
    ("A policy is a TOML file.", "usage::files_that_are_no_policies_are_named_and_explained"),
    ("By default it is `/etc/tipstaff/", "usage::options_work_before_and_after_the_command"),
    (
        "One file may cover many hosts.",
        "usage::a_host_that_is_not_there_is_answered_with_the_ones_that_are",
    ),
    ("Every packet is inbound (to this", "meaning::plans_and_programs_agree_on_generated_packets"),
    (
        "For each direction there is a li",
        "showing::the_decision_list_has_baseline_rules_and_default_in_order",
    ),
    (
        "`allow`: it passes, and so do th",
        "agreement::plan_kernel_and_wire_agree_on_generated_policies",
    ),
    ("`deny`: silence.", "agreement::plan_kernel_and_wire_agree_on_generated_policies"),
    (
        "`reject`: the sender is told at ",
        "lowering::a_rejection_answers_tcp_with_a_reset_and_the_rest_with_a_prohibition",
    ),
    ("A host never answers ICMP errors", "baseline::some_packets_are_never_answered"),
    (
        "One rule serves IPv4 and IPv6.",
        "lowering::a_rule_becomes_one_for_each_version_and_protocol_that_it_needs",
    ),
    (
        "It is narrowed only by the addre",
        "lowering::a_rule_becomes_one_for_each_version_and_protocol_that_it_needs",
    ),
    ("| `443/tcp` | a port and its pro", "reading::terms_of_a_list_add_up"),
    ("| `30000-32000/udp` | all ports ", "reading::terms_of_a_list_add_up"),
    ("| `53/tcp+udp` | over both proto", "reading::terms_of_a_list_add_up"),
    ("| `3868/sctp` | SCTP (RFC 9260),", "reading::sctp_has_ports_like_tcp_and_udp"),
    ("| `icmp` | all ICMP, and all ICM", "reading::kinds_of_traffic_are_named_by_meaning"),
    ("| `icmp:echo-request` | one kind", "reading::kinds_of_traffic_are_named_by_meaning"),
    (
        "| `igmp` | protocol 2: group mem",
        "reading::what_a_term_does_not_mean_is_as_the_language_says",
    ),
    ("| `proto:47` | everything of one", "reading::kinds_of_traffic_are_named_by_meaning"),
    ("| `any` | everything, of every p", "reading::terms_of_a_list_add_up"),
    (
        "| a name | a service of the poli",
        "editing::services_are_found_by_name_number_and_description",
    ),
    ("A service can be made of others,", "services::services_are_made_of_services"),
    ("A name of the policy comes befor", "services::services_are_made_of_services"),
    (
        "Known names stand for the protoc",
        "language::known_names_stand_for_what_services_are_used_with",
    ),
    (
        "A port without a protocol is a m",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "Kinds of ICMP have names only, s",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "A kind that one version does not",
        "reading::what_a_term_does_not_mean_is_as_the_language_says",
    ),
    (
        "`source-ports` narrows a rule to",
        "reading::what_a_term_does_not_mean_is_as_the_language_says",
    ),
    (
        "What has no ports, ICMP for one,",
        "reading::what_a_term_does_not_mean_is_as_the_language_says",
    ),
    ("`from` and `to` hold names of pl", "reading::lists_of_addresses_add_up_and_leave_out"),
    (
        "A network with bits set behind i",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    ("What has a `!` in front is left ", "reading::lists_of_addresses_add_up_and_leave_out"),
    ("`[\"stacks\", \"!10.44.8.30\"]`.", NO_FACT),
    ("A list of only such items means ", "reading::lists_of_addresses_add_up_and_leave_out"),
    ("`[\"!nuisance\"]`.", NO_FACT),
    ("| `anywhere` | every address |", "language::built_in_places_hold_what_they_say"),
    ("| `this-host` | the addresses of", "reading::lists_of_addresses_add_up_and_leave_out"),
    (
        "| `on-link` | the networks of th",
        "reading::what_a_term_does_not_mean_is_as_the_language_says",
    ),
    ("| `private` | private, shared an", "language::built_in_places_hold_what_they_say"),
    ("`at` narrows a rule to some of t", "language::at_is_the_end_of_the_host"),
    ("A host's `addresses` may be left", "moving::rules_hold_while_the_addresses_change"),
    (
        "Then its own addresses are whate",
        "relations::its_own_are_all_its_addresses_and_nothing_that_is_for_many",
    ),
    ("`this-host` and `at` ask the rou", "moving::rules_hold_while_the_addresses_change"),
    ("`at` may name addresses that the", "moving::rules_hold_while_the_addresses_change"),
    ("`on-link` is then the networks o", "language::far_ends_are_on_the_link"),
    ("The kernel cannot be asked that;", "moving::rules_hold_while_the_addresses_change"),
    ("Until then the old networks coun", "moving::rules_hold_while_the_addresses_change"),
    ("A network is as large as whoever", NO_FACT),
    ("`enforce` takes such a host for ", "moving::rules_hold_while_the_addresses_change"),
    ("Whatever is proven of such a hos", "meaning::plans_and_programs_agree_on_generated_packets"),
    (
        "Commands on that very machine us",
        "moving::questions_are_answered_by_what_the_machine_has_now",
    ),
    ("`turned-away` cannot name `this-", "moving::what_cannot_be_said_of_such_a_host_is_a_mistake"),
    (
        "`names = [\"web-*\"]` lets one sec",
        "language::one_section_serves_many_machines_by_their_names",
    ),
    (
        "A section of just that name come",
        "language::one_section_serves_many_machines_by_their_names",
    ),
    ("`interfaces = { outside = \"eth0\"", "interfaces::those_that_are_not_there_are_said"),
    ("`ingress` narrows a rule to what", "meaning::plans_and_programs_agree_on_generated_packets"),
    (
        "Inbound packets have an ingress,",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "A host that names roles is held ",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    ("A role stands for a name, for an", "interfaces::rules_mean_the_interface_of_another_name"),
    ("`outside = \"52:54:00:5e:00:01\"`.", NO_FACT),
    ("The kernel compares names.", "interfaces::rules_by_a_hardware_address_follow_a_rename"),
    ("So what a policy calls an interf", "interfaces::rules_by_a_hardware_address_follow_a_rename"),
    (
        "An interface that is a part of a",
        "interfaces::rules_mean_the_whole_where_the_kernel_sees_only_that",
    ),
    ("Rules that deny then mean the wh", "placing::a_part_goes_by_the_name_of_the_whole"),
    ("`enforce`, `status` and `review ", "interfaces::those_that_are_not_there_are_said"),
    ("Rules that several hosts share s", "bundles::bundles_are_unfolded_where_they_are_used"),
    ("Their rules become rules of the ", "bundles::bundles_are_unfolded_where_they_are_used"),
    (
        "Bundles may take in other bundle",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    ("`this-host` and `on-link` in a b", "bundles::bundles_are_unfolded_where_they_are_used"),
    (
        "What uses a bundle can be `pause",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    ("What all hosts of a kind have st", "labels::labels_bring_what_all_hosts_with_them_have"),
    ("Every host that has it among its", "labels::labels_bring_what_all_hosts_with_them_have"),
    ("Its rules stand ahead of the hos", "labels::labels_bring_what_all_hosts_with_them_have"),
    (
        "For defaults and the baseline th",
        "labels::two_labels_that_say_the_same_thing_are_a_mistake_unless_the_host_says_it",
    ),
    ("Who is turned away, and what is ", "labels::labels_bring_what_all_hosts_with_them_have"),
    ("`this-host` and `on-link` are th", "labels::labels_bring_what_all_hosts_with_them_have"),
    ("Ahead of all rules, each host ha", "reading::what_is_left_out_is_safe"),
    (
        "They are shown by `show`, `ask` ",
        "showing::the_decision_list_has_baseline_rules_and_default_in_order",
    ),
    (
        "Each can be switched off by its ",
        "baseline::each_part_can_be_switched_off_and_is_still_shown",
    ),
    (
        "| `baseline/loopback` | allows e",
        "baseline::the_loopback_interface_is_free_and_its_addresses_come_from_nowhere_else",
    ),
    (
        "| `baseline/false-loopback` | de",
        "baseline::the_loopback_interface_is_free_and_its_addresses_come_from_nowhere_else",
    ),
    (
        "| `baseline/turned-away` | denie",
        "baseline::who_is_turned_away_meets_silence_ahead_of_everything",
    ),
    ("Whoever is turned away can be so", "baseline::whoever_is_turned_away_for_a_time"),
    ("The kernel itself lets go of the", "turning::whoever_is_turned_away_is_so_at_once"),
    ("`tipstaff turn-away 198.51.100.9", "turning::whoever_is_turned_away_is_so_at_once"),
    (
        "| `baseline/invalid` | denies wh",
        "baseline::replies_pass_in_every_direction_and_what_fits_nothing_does_not",
    ),
    (
        "| `baseline/ping` | echo request",
        "baseline::pings_are_decided_by_their_key_even_in_the_middle_of_a_series",
    ),
    (
        "| `baseline/replies` | allows re",
        "baseline::replies_pass_in_every_direction_and_what_fits_nothing_does_not",
    ),
    ("| `baseline/neighbours` | allows", "baseline::neighbours_are_found_and_groups_joined"),
    ("| `baseline/dhcp` | allows what ", "baseline::addresses_can_be_had_by_dhcp"),
    (
        "What is turned away has no answe",
        "cutting::what_those_who_are_turned_away_have_open_is_ended",
    ),
    (
        "Packets on the loopback interfac",
        "baseline::who_is_turned_away_meets_silence_ahead_of_everything",
    ),
    ("With `ping = \"by-rules\"` the hos", "baseline::pings_can_be_left_to_the_rules"),
    ("The `rate` of an `allow` rule sa", "rates::in_total_and_for_each_source"),
    ("`5/second`, `6/minute, burst 4`.", NO_FACT),
    ("Without a burst, as many as the ", "language::a_rate_without_a_burst_has_its_own_number"),
    ("What comes beyond it meets silen", "lowering::a_rate_is_one_limiter_with_a_denial_behind_it"),
    ("All senders together share a rat", "rates::in_total_and_for_each_source"),
    ("`6/minute per source, burst 4`.", NO_FACT),
    ("Then each IPv4 address has its o", "rates::in_total_and_for_each_source"),
    (
        "While there are more, further on",
        "rates::more_sources_than_are_told_apart_share_places_and_find_no_open_door",
    ),
    ("`status` counts what found no ro", "machine::marks_interfaces_and_crowds"),
    (
        "Who a sender is, the kernel cann",
        "rates::more_sources_than_are_told_apart_share_places_and_find_no_open_door",
    ),
    (
        "A rule for known places above th",
        "rates::more_sources_than_are_told_apart_share_places_and_find_no_open_door",
    ),
    ("`program = \"/usr/sbin/catalogued", "programs::the_whole_course_of_a_rule_for_a_program"),
    ("Several can be named in a list.", "meaning::generated_policies_use_every_key"),
    ("What counts as a program, whose ", NO_FACT),
    ("[PROGRAMS.md](PROGRAMS.md).", NO_FACT),
    ("Where the kernel cannot tell pro", "programs::what_is_lacking_is_said_and_stops_it"),
    ("`user = \"seedbase\"` narrows a ru", "users::a_rule_with_a_user_is_about_their_sockets_only"),
    ("A rule with `program` and `user`", "users::a_rule_with_a_user_is_about_their_sockets_only"),
    ("Names are those of the machine's", "users::the_whole_course_of_a_rule_for_a_user"),
    (
        "A name that is not there matches",
        "users::users_who_are_not_there_match_nothing_and_are_said",
    ),
    ("`log = \"denied\"` in a host's section", "reported::what_is_reported_is_what_is_remembered"),
    ("`tipstaff watch --logged` shows", "logging::what_the_policy_says_is_logged_and_no_more"),
    (
        "`log-at-most` says how many",
        "reported::no_more_is_reported_than_is_wanted_and_the_rest_is_counted",
    ),
    ("If left out, that is `100/second", "logging::what_the_policy_says_is_logged_and_no_more"),
    (
        "What is beyond it is counted",
        "reported::no_more_is_reported_than_is_wanted_and_the_rest_is_counted",
    ),
    ("With `enforce --log-for 1h` all", "logging::all_is_logged_for_a_time"),
    (
        "`log = true` in a rule reports",
        "ending::what_a_rule_takes_is_reported_under_its_name_up_to_the_cap",
    ),
    ("`until = 2026-12-24T18:00:00Z` e", "meaning::a_rule_ends_at_the_very_second_that_it_names"),
    ("The kernel itself stops heeding ", "ending::a_rule_ends_at_its_time_with_nobody_there"),
    ("What has ended is shown by `show", "kernel::a_rule_that_has_ended_is_left_out_and_said"),
    ("`[[host.NAME.expect]]` states wh", "edges::an_expectation_fails_for_its_own_packets_only"),
    (
        "An expectation is about the firs",
        "reading::an_expectation_about_all_but_some_is_not_about_loopback_addresses",
    ),
    ("It is proven for every such pack", "analysis::regions_are_those_of_brute_force"),
    ("What a limited rule allows count", "language::what_a_limited_rule_allows_counts_as_allowed"),
    ("`review` checks all of them; eve", "editing::a_broken_expectation_is_told_at_once"),
    ("What [`review`](FINDINGS.md) fin", "machine::what_is_accepted_says_why"),
    ("`accept` says so where it is wri", "tables::what_is_accepted_stands_with_what_it_is_about"),
    ("`shell = [\"2202/tcp\"]` in a host", "edges::a_shell_that_somebody_can_reach_is_no_lockout"),
    (
        "A folder given as `--policy` is ",
        "folders::its_files_are_one_policy_whose_names_hold_everywhere",
    ),
    (
        "Names hold in all of them, and e",
        "folders::its_files_are_one_policy_whose_names_hold_everywhere",
    ),
    (
        "Each file begins with `edition =",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "Unknown keys are mistakes.",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "Names have 1 to 63 lower-case le",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "All mistakes of a file are shown",
        "reading::every_mistake_is_found_in_one_run_in_the_order_of_the_text",
    ),
    ("The kernel remembers who was not", "remembering::whoever_came_is_told_with_what_was_decided"),
    (
        "With `record = \"all\"` in a host",
        "agreement::plan_kernel_and_wire_agree_on_generated_policies",
    ),
    (
        "Who has not come again for seven",
        "remembered::who_has_not_come_again_is_forgotten_and_who_has_is_not",
    ),
    (
        "Nothing is done with a policy th",
        "bad_policies::each_mistake_is_shown_where_it_is_with_a_way_out",
    ),
    (
        "Commands that change the kernel ",
        "kernel::a_policy_that_others_can_rewrite_is_not_enforced",
    ),
];

/// The statements of a page: sentences, and rows of tables; code and headings are none.
fn statements(page: &str) -> Vec<String> {
    let mut all = Vec::new();
    let mut code = false;
    let mut paragraph = String::new();
    for line in page.lines().chain([""]) {
        if line.starts_with("```") {
            code = !code;
            continue;
        }
        let ends = line.is_empty() || line.starts_with(['#', '|', '<', '-']);
        if code || !ends {
            if !code {
                paragraph.push_str(line.trim());
                paragraph.push(' ');
            }
            continue;
        }
        all.extend(sentences(&std::mem::take(&mut paragraph)));
        match line.strip_prefix("- ") {
            Some(item) => paragraph = format!("{item} "),
            None if line.starts_with('|') => all.push(line.to_owned()),
            None => {}
        }
    }
    // The first two rows of a table are its heading.
    let heads: BTreeSet<usize> = (0..all.len())
        .filter(|&at| all[at].starts_with("|---"))
        .flat_map(|at| [at - 1, at])
        .collect();
    let kept = all.into_iter().enumerate().filter(|(at, _)| !heads.contains(at));
    kept.map(|it| it.1).collect()
}

fn sentences(paragraph: &str) -> Vec<String> {
    let mut list = Vec::new();
    let mut rest = paragraph.trim();
    while !rest.is_empty() {
        let end = rest.match_indices(". ").chain(rest.match_indices(": ")).map(|it| it.0 + 1);
        let begins = |at: &usize| {
            rest[at + 1..].starts_with(|it: char| it.is_uppercase() || matches!(it, '`' | '['))
        };
        let at = end.filter(begins).min().unwrap_or(rest.len());
        list.push(rest[..at].to_owned());
        rest = rest[at..].trim_start();
    }
    list
}

/// All tests, as their file's name and their own.
fn tests() -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    for folder in ["core/tests/it", "linux/tests/kernel", "cli/tests/it"] {
        for file in fs::read_dir(Path::new(ROOT).join("crates").join(folder)).expect("a folder") {
            let path = file.expect("a file").path();
            let Ok(text) = fs::read_to_string(&path) else { continue };
            let stem = path.file_stem().expect("a name").to_string_lossy().into_owned();
            for part in text.split("#[test]").skip(1) {
                let name = part.split("fn ").nth(1).and_then(|it| it.split('(').next());
                names.extend(name.map(|it| format!("{stem}::{it}")));
            }
        }
    }
    names
}

#[test]
fn every_statement_about_the_language_is_shown_by_a_test() {
    let page = fs::read_to_string(Path::new(ROOT).join("docs/LANGUAGE.md")).expect("the page");
    // The tables of the keys are made from what the reader uses.
    let (before, rest) = page.split_once("<!-- the tables").expect("tables");
    let (_, behind) = rest.split_once("<!-- end of the tables -->").expect("their end");
    let said = statements(&format!("{before}\n{behind}"));
    let tests = tests();
    assert!(said.len() > 100 && tests.len() > 300, "{} and {}", said.len(), tests.len());
    let mut wrong = Vec::new();
    for statement in &said {
        let shown: Vec<_> = all_shown().filter(|it| statement.starts_with(it.0)).collect();
        if shown.len() != 1 {
            wrong.push(format!("{} tests are named for: {statement}", shown.len()));
        }
    }
    for (beginning, test) in all_shown() {
        if !said.iter().any(|it| it.starts_with(beginning)) {
            wrong.push(format!("nothing begins: {beginning}"));
        }
        if test != NO_FACT && !tests.contains(test) {
            wrong.push(format!("there is no test {test}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
