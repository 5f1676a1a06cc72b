//! What the story says, asks and claims.

/// What the story claims about one caller at one port.
pub struct Claim {
    pub host: &'static str,
    pub port: &'static str,
    pub from: &'static str,
    /// The caller's addresses.
    pub sources: &'static [&'static str],
    pub before: &'static str,
    pub after: &'static str,
    pub because: &'static str,
}

pub const CLAIMS: [Claim; 7] = [
    Claim {
        host: "sluice",
        port: "2202/tcp",
        from: "curators",
        sources: &["198.51.100.7", "2001:db8:51::7"],
        before: "silent",
        after: "open",
        because: "the shell's rule follows it to 2202",
    },
    Claim {
        host: "sluice",
        port: "443/tcp",
        from: "nuisance",
        sources: &["203.0.113.66"],
        before: "open",
        after: "silent",
        because: "the denial stands first now",
    },
    Claim {
        host: "sluice",
        port: "9100/tcp",
        from: "stacks",
        sources: &["10.44.8.30", "fd44:8::30"],
        before: "silent",
        after: "open",
        because: "the exporter has a rule",
    },
    Claim {
        host: "sluice",
        port: "8088/tcp",
        from: "curators",
        sources: &["198.51.100.7"],
        before: "silent",
        after: "open",
        because: "the rule meets what is led to the mirror",
    },
    Claim {
        host: "granary",
        port: "5432/tcp",
        from: "stacks",
        sources: &["10.44.8.30", "fd44:8::30"],
        before: "open",
        after: "silent",
        because: "only sluice may use the database",
    },
    Claim {
        host: "granary",
        port: "9100/tcp",
        from: "stacks",
        sources: &["10.44.8.30"],
        before: "open",
        after: "refused",
        because: "the printer is gone, and callers hear it",
    },
    Claim {
        host: MAIL_HOST,
        port: "25/tcp",
        from: "bench",
        sources: &["10.44.8.30", "fd44:8::30"],
        before: "open",
        after: "refused",
        because: "bench may not send mail",
    },
];

/// What the mail server among the strangers is called.
pub const MAIL_HOST: &str = "mail outside";

/// The changes of chapter five.
pub const EDITED: [&[&str]; 5] = [
    &["rule", "move", "nuisance", "--first"],
    &["rule", "add", "web-for-curators", "--allow", "443/tcp", "--from", "curators", "--dry-run"],
    &["rule", "change", "shell", "--allow", "2202/tcp", "--why", "The shell moved to 2202"],
    &[
        "rule",
        "change",
        "reading-room",
        "--direction",
        "forwarded",
        "--allow",
        "80/tcp",
        "--published",
        "8088/tcp",
    ],
    &["rule", "add", "metrics", "--allow", "9100/tcp", "--from", "stacks", "--after", "catalogue"],
];

/// A question of chapter four.
pub struct Asked {
    pub text: &'static str,
    pub host: &'static str,
    pub from: &'static str,
    pub traffic: &'static str,
    /// Whether it is asked of the machine, with what others do to packets there.
    pub live: bool,
}

pub const QUESTIONS: [Asked; 5] = [
    Asked {
        text: "The curators cannot reach the remote shell: it moved to 2202, and the rule still \
               opens 22, where nothing listens.",
        host: "sluice",
        from: "198.51.100.7",
        traffic: "2202/tcp",
        live: false,
    },
    Asked {
        text: "The nuisance reaches the catalogue although a rule denies it everything: that rule \
               stands below the one that decides.",
        host: "sluice",
        from: "203.0.113.66",
        traffic: "443/tcp",
        live: false,
    },
    Asked {
        text: "tidegauge listens on 9100, and no rule mentions it: whoever should read it cannot.",
        host: "sluice",
        from: "10.44.8.30",
        traffic: "9100/tcp",
        live: false,
    },
    Asked {
        text: "The catalogue's mirror stands behind sluice, and rules of somebody else lead 8088 to it. The \
               policy's rule opens 8088 of sluice itself, where no packet arrives: the curators hear nothing.",
        host: "sluice",
        from: "198.51.100.7",
        traffic: "8088/tcp",
        live: true,
    },
    Asked {
        text: "The database is meant for sluice alone, but every machine in the stacks can open \
               it. The label printer's port is open to them too, though nobody asked for it; and \
               mail leaves bench freely.",
        host: "granary",
        from: "10.44.8.30",
        traffic: "5432/tcp",
        live: false,
    },
];

pub const TITLE: &str = "Tidewater Seed Library: one round of the loop, in a sealed lab";

pub const WORLD: &str =
    "  curators' office     herbarium             strangers, a nuisance among them
  198.51.100.0/27      198.51.100.128/28     203.0.113.0/24, 203.0.113.64/28
         |                    |                     |
         +--------------------+---------------------+
                              |  the outside, 192.0.2.0/24
                           sluice  (edge) ------- reading-room, 172.31.0.2
                              |  the stacks, 10.44.8.0/24
                   +----------+-----------+
                granary                 bench
                (store)                 (desk)

Every network has IPv6 addresses too. All of it lives in network namespaces of this machine's
own kernel; the real network is not touched, and nothing is left behind.
";

pub const LISTENS: &str = "A port can be reached only if a program listens on it. This is what each \
                       host itself says:";

pub const INHERITED_POLICY: &str = "The previous administrator left one policy for the three hosts. \
                                For each host it becomes a list of decisions; the first one that \
                                matches a packet decides.";

pub const CHECK: &str = "The rules go into the kernel in one step. Then real connections are made \
                     from every place, over IPv4 and IPv6. The policy's word, the kernel's word \
                     and what the probe met must agree.";

pub const MISTAKES: &str = "Policy, kernel and wire agree: everything is as written. But some of what \
                        is written is not what was meant.";

pub const EDITS: &str = "Rules are changed from the command line, or in any editor. Each change tells \
                     what it opens and closes, exactly, before it ends; comments and order of the \
                     file stay. This is done on a copy, for sluice:";

pub const MENDED_POLICY: &str = "The denial of the nuisance moves up, the shell's rule follows the \
                             shell, the mirror's rule follows where its port is led, the exporter gets a rule, the database closes to all but \
                             sluice, the old printer's port is refused, and bench may send no mail. \
                             Before it is enforced, every port is tried in a lab, from everybody \
                             whom the policy tells apart, with real packets:";

pub const SAME_CHECK: &str =
    "Now for the real machines of the example, and from every place again:";

pub const CHANGED: &str = "Every difference that the probes met, and nothing else:";

pub const END: &str = "\
All of it is as the policy says, by all three witnesses. The two policies are demo/inherited.toml
and demo/mended.toml. On a host of yours, begin with `tipstaff draft`; then `tipstaff review`,
`tipstaff rehearse`; as root `tipstaff enforce`, `tipstaff status` and `tipstaff reach`; and to hand
over, `tipstaff report`.
";
