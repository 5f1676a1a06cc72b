//! An example of each command, on the data of the demo, as its help shows it.

/// The lines that show how a command is used; the command is named without the program.
pub fn examples(command: &str) -> &'static [&'static str] {
    match command {
        "draft" => &["tipstaff draft", "tipstaff draft --programs", "tipstaff draft --from-record"],
        "export" => &["tipstaff export --to acl", "tipstaff export --to json"],
        "adopt" => &[
            "tipstaff adopt",
            "tipstaff adopt --hand-over",
            "tipstaff adopt --from acl lists.json",
        ],
        "watch" => &["tipstaff watch", "tipstaff watch port 22 from curators denied --for 10m"],
        "rule add" => &[
            "tipstaff rule add uploads --allow 8443/tcp --from curators --after catalogue",
            "tipstaff rule add guest --allow 22000/tcp --from 203.0.113.9 --until 2099-03-01T18:00:00Z --dry-run",
        ],
        "rule change" => &[
            "tipstaff rule change uploads --allow 8443/tcp 8444/tcp",
            "tipstaff rule change catalogue --also-allow 8443/tcp --not-from nuisance",
        ],
        "rule move" => &["tipstaff rule move nuisance --first"],
        "rule pause" => &["tipstaff rule pause catalogue uploads"],
        "rule resume" => &["tipstaff rule resume catalogue"],
        "rule remove" => &["tipstaff rule remove uploads --dry-run"],
        "rule tighten" => &[
            "tipstaff rule tighten catalogue --dry-run",
            "tipstaff rule tighten catalogue --to addresses",
        ],
        "rule show" => &["tipstaff rule show catalogue"],
        "rule list" => &[
            "tipstaff rule list",
            "tipstaff rule list --where verdict=deny place=nuisance --sort name",
        ],
        "place add" => {
            &["tipstaff place add pilots --addresses 198.51.100.64/29 2001:db8:51:7::/64"]
        }
        "place change" => &["tipstaff place change pilots --addresses 198.51.100.64/28"],
        "place remove" => &["tipstaff place remove pilots"],
        "place refresh" => &[
            "tipstaff place refresh",
            "tipstaff place refresh nuisance --although grown --dry-run",
        ],
        "place list" => &["tipstaff place list"],
        "service add" => &["tipstaff service add labels --ports 9101/tcp"],
        "service change" => &["tipstaff service change labels --ports 9101/tcp 9102/tcp"],
        "service remove" => &["tipstaff service remove labels"],
        "service list" => &["tipstaff service list"],
        "service find" => &["tipstaff service find postgres", "tipstaff service find 3868"],
        _ => examples_of_more(command),
    }
}

fn examples_of_more(command: &str) -> &'static [&'static str] {
    match command {
        "undo" => &["tipstaff undo --dry-run", "tipstaff undo"],
        "host add" => &["tipstaff host add bench-2 --addresses 10.44.8.31 --dry-run"],
        "host change" => &["tipstaff host change sluice --also-turned-away nuisance --dry-run"],
        "host remove" => &["tipstaff host remove granary --dry-run"],
        "bundle add" => &["tipstaff bundle add night-shift --why \"Whoever is on duty\""],
        "bundle change" => &["tipstaff bundle change night-shift --rename on-duty"],
        "bundle remove" => &["tipstaff bundle remove on-duty"],
        "bundle use" => &["tipstaff bundle use night-shift --first"],
        "bundle leave" => &["tipstaff bundle leave night-shift"],
        "bundle list" => &["tipstaff bundle list"],
        "label add" => &["tipstaff label add edge --turned-away nuisance"],
        "label change" => &["tipstaff label change edge --also-turned-away 203.0.113.9"],
        "label remove" => &["tipstaff label remove edge --dry-run"],
        "label list" => &["tipstaff label list"],
        "interface add" => &["tipstaff interface add tunnel wg0"],
        "interface change" => &["tipstaff interface change outside 52:54:00:5e:00:01 --dry-run"],
        "interface remove" => &["tipstaff interface remove tunnel"],
        "interface list" => &["tipstaff interface list"],
        "expect add" => &["tipstaff expect add deny 5432/tcp --from curators --dry-run"],
        "expect remove" => &["tipstaff expect remove 1 --dry-run"],
        "expect list" => &["tipstaff expect list"],
        "finding accept" => {
            &["tipstaff finding accept wide-open --rule catalogue --why \"It is for everybody\""]
        }
        "finding withdraw" => &["tipstaff finding withdraw wide-open --rule catalogue"],
        "host list" => &["tipstaff host list"],
        "baseline" => &["tipstaff baseline --ping by-rules --dhcp off --dry-run"],
        "defaults" => &["tipstaff defaults --inbound deny --dry-run"],
        "show" => &["tipstaff --host sluice show"],
        "review" => &["tipstaff review", "tipstaff review --explain shadowed"],
        "ask" => &[
            "tipstaff ask --from 203.0.113.66 --traffic 443/tcp",
            "tipstaff ask --who 5432/tcp",
            "tipstaff ask --why catalogue",
            "tipstaff ask --live --from 198.51.100.7 --traffic 8088/tcp",
        ],
        "compare" => &["tipstaff compare demo/inherited.toml", "tipstaff compare committed"],
        "enforce" => &["tipstaff enforce --confirm-within 60", "tipstaff enforce --dry-run"],
        "confirm" => &["tipstaff confirm"],
        "revert" => &["tipstaff revert", "tipstaff revert 3 --keep"],
        "release" => &["tipstaff release --confirm-within 60"],
        "callers" => &[
            "tipstaff callers --denied --since 2h",
            "tipstaff callers --rule catalogue --by network",
        ],
        "cut" => &["tipstaff cut --dry-run"],
        "docket" => &["tipstaff docket"],
        "docket show" => &["tipstaff docket show 3", "tipstaff docket show 3 --text"],
        "docket restore" => &["tipstaff docket restore 3 --dry-run"],
        "docket mend" => &["tipstaff docket mend"],
        "docket compare" => &["tipstaff docket compare 3"],
        "status" => &[
            "tipstaff status",
            "tipstaff status --kernel",
            "tipstaff status --textfile /var/lib/collected/tipstaff.prom",
        ],
        "facts" => &["tipstaff facts", "tipstaff facts --mask --format json"],
        "programs" => &["tipstaff programs"],
        "reach" => &["tipstaff reach", "tipstaff reach --vantage curators=ssh://seedling@bench"],
        "report" => &["tipstaff report --format html"],
        "vantage" => &["tipstaff vantage"],
        "rehearse" => &["tipstaff rehearse", "tipstaff rehearse --traffic 9100/tcp"],
        "demo" => &["tipstaff demo", "tipstaff demo fleet"],
        _ => examples_of_situations(command),
    }
}

/// Those of what holds in situations, and of what happens.
fn examples_of_situations(command: &str) -> &'static [&'static str] {
    match command {
        "turn-away" => &[
            "tipstaff turn-away 203.0.113.9 --for 2h --why \"Knocks at night\"",
            "tipstaff turn-away 203.0.113.9 --no-more",
        ],
        "shut" => &["tipstaff shut --for 30m --why \"Somebody is in\""],
        "posture" => &["tipstaff posture"],
        "posture show" => &["tipstaff posture show"],
        "posture take" => &[
            "tipstaff posture take showing --for 30m --why \"Visitors\"",
            "tipstaff posture take showing --while sleep 60",
        ],
        "posture leave" => &["tipstaff posture leave"],
        "attend" => &["tipstaff attend", "tipstaff attend --run ./tell-somebody"],
        "newcomers" => &["tipstaff newcomers", "tipstaff newcomers --known"],
        _ => examples_of_fleets(command),
    }
}

fn examples_of_fleets(command: &str) -> &'static [&'static str] {
    match command {
        "fleet seal" => &[
            "tipstaff fleet seal --fleet tidewater --carrier /srv/fleet --key ~/.ssh/id_ed25519 --dry-run",
            "tipstaff fleet seal --fleet tidewater --carrier /srv/fleet --key ~/.ssh/id_ed25519.pub --expires +30days",
        ],
        "fleet verify" => &[
            "tipstaff fleet verify newest --fleet tidewater --carrier etcd+https://10.44.8.20:2379/tidewater",
        ],
        "fleet compare" => &[
            "tipstaff fleet compare demo/inherited.toml",
            "tipstaff fleet compare newest --carrier /srv/fleet",
        ],
        "fleet reach" => &[
            "tipstaff fleet reach sluice granary 5432/tcp",
            "tipstaff fleet reach bench granary 873/tcp --through sluice",
        ],
        "fleet matrix" => {
            &["tipstaff fleet matrix 9100/tcp", "tipstaff fleet matrix 9100/tcp --within stacks"]
        }
        "fleet expectations" => &["tipstaff --policy demo/fleet.toml fleet expectations"],
        "fleet probe" => &[
            "tipstaff fleet probe 5432/tcp --to granary --within stacks --fleet tidewater --carrier /srv/fleet",
        ],
        "fleet roll-out" => &[
            "tipstaff fleet roll-out --fleet tidewater --carrier /srv/fleet",
            "tipstaff fleet roll-out --to shelf --steps 1,10%,100% --pause 5m --stop-at 2 --fleet tidewater --carrier etcd+https://10.44.8.20:2379/tidewater",
        ],
        "fleet hold" => &[
            "tipstaff fleet hold --why \"granary is slow since\" --fleet tidewater --carrier /srv/fleet",
        ],
        "fleet undo" => &[
            "tipstaff fleet undo --key ~/.ssh/id_ed25519 --fleet tidewater --carrier /srv/fleet --dry-run",
        ],
        "fleet status" => &[
            "tipstaff fleet status --fleet tidewater --carrier /srv/fleet",
            "tipstaff fleet status --wrong --fleet tidewater --carrier /srv/fleet",
        ],
        "fleet take" => &[
            "tipstaff fleet take --fleet tidewater --carrier /srv/fleet",
            "tipstaff fleet take --over-local --fleet tidewater --carrier /srv/fleet",
        ],
        _ => &[],
    }
}
