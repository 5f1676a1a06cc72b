//! More of the statements about the language, each with the test that shows it to be so.

/// How a statement begins, and the test: its file, and its name.
pub const SHOWN_BY_MORE: [(&str, &str); 19] = [
    (
        "`file`, with `column` for one of a",
        "feeds::a_place_holds_what_was_read_and_what_is_written_but_for_exceptions",
    ),
    (
        "`published = [\"8088/tcp\"]` narrows",
        "published::what_is_led_here_meets_the_rules_about_published_ports",
    ),
    (
        "What comes by itself does not match",
        "published::what_is_led_here_meets_the_rules_about_published_ports",
    ),
    (
        "With `when` it holds by itself whi",
        "attending::a_posture_holds_where_it_belongs_and_nowhere_else",
    ),
    (
        "A place may take addresses from fi",
        "feeds::a_place_holds_what_was_read_and_what_is_written_but_for_exceptions",
    ),
    (
        "What counts is what `tipstaff place",
        "places::what_a_place_holds_is_not_known_before_its_files_are_read",
    ),
    (
        "A term with a `!` in front is lef",
        "leaks::what_is_left_out_of_traffic_and_interfaces_is_left_out",
    ),
    (
        "`[\"!tunnel\"]`, alone in its list,",
        "leaks::what_is_left_out_of_traffic_and_interfaces_is_left_out",
    ),
    ("`outbound-replies = false` takes w", "leaks::leaks_beside_a_tunnel_are_found"),
    ("With `every-packet = true` it is a", "leaks::leaks_beside_a_tunnel_are_found"),
    ("What the parts of the baseline", "leaks::leaks_beside_a_tunnel_are_found"),
    (
        "With `published` it is about what ",
        "expecting::it_is_about_the_port_that_callers_asked_for",
    ),
    (
        "`traffic = [\"any\"]`, `direction = \"f",
        "expecting::it_is_about_the_port_that_callers_asked_for",
    ),
    (
        "Left out, it is about packets that",
        "expecting::it_is_about_the_port_that_callers_asked_for",
    ),
    (
        "`posture` names the [postures](#po",
        "postures::expectations_are_about_the_postures_that_they_name",
    ),
    (
        "`[host.NAME.posture.POSTURE]` says",
        "postures::a_posture_is_taken_and_left_and_ends_what_only_it_admitted",
    ),
    (
        "A posture's rules stand ahead of th",
        "postures::a_posture_changes_what_it_says_and_nothing_else",
    ),
    (
        "Defaults and parts of the baseline",
        "postures::a_posture_changes_what_it_says_and_nothing_else",
    ),
    (
        "`at-boot = \"POSTURE\"` in the host's",
        "in_postures::a_boot_begins_in_the_posture_in_which_it_is_to_begin",
    ),
];
