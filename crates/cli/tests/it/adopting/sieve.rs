//! A machine's rules as somebody wrote them by hand, ahead of any policy.

use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression, Hook, MetaKey, Rule, Verdict, ct,
    set_flags,
};

/// The table.
pub const TABLE: &str = "sieve";
const ONE: u32 = 1;

pub fn equal(data: impl Into<Vec<u8>>) -> Expression {
    Expression::Cmp { register: ONE, op: Compare::Equal, data: data.into() }
}

pub fn protocol(number: u8) -> Vec<Expression> {
    vec![Expression::Meta { register: ONE, key: MetaKey::Protocol }, equal([number])]
}

pub fn port() -> Expression {
    Expression::Payload { register: ONE, base: Base::Transport, offset: 2, length: 2 }
}

pub fn to_port(number: u16) -> Vec<Expression> {
    [protocol(6), vec![port(), equal(number.to_be_bytes())]].concat()
}

pub fn accept() -> Expression {
    Expression::Immediate(Verdict::Accept)
}

pub fn deny() -> Expression {
    Expression::Immediate(Verdict::Drop)
}

pub fn counter() -> Expression {
    Expression::Counter { packets: 0, bytes: 0 }
}

/// The packet's mark is this.
pub fn marked(mark: u32) -> Vec<Expression> {
    vec![Expression::Meta { register: ONE, key: MetaKey::Mark }, equal(mark.to_ne_bytes())]
}

pub fn states(bits: u32) -> Vec<Expression> {
    vec![
        Expression::Ct { register: ONE, key: ct::STATE },
        Expression::Bitwise {
            source: ONE,
            destination: ONE,
            length: 4,
            mask: bits.to_ne_bytes().to_vec(),
            xor: vec![0; 4],
        },
        Expression::Cmp { register: ONE, op: Compare::NotEqual, data: vec![0; 4] },
    ]
}

fn lookup(set: &nf::Set) -> Expression {
    let (set, id) = (set.name.clone(), set.id);
    Expression::Lookup { set, register: ONE, to_verdict: false, id, flags: 0 }
}

/// What comes from a set of networks of an IP version.
fn from(set: &nf::Set) -> Vec<Expression> {
    let (family, offset) = if set.key_length == 4 { (2, 12) } else { (10, 8) };
    vec![
        Expression::Meta { register: ONE, key: MetaKey::Family },
        equal([family]),
        Expression::Payload { register: ONE, base: Base::Network, offset, length: set.key_length },
        lookup(set),
    ]
}

fn interface(name: &str) -> Vec<Expression> {
    by(MetaKey::InInterfaceName, name)
}

/// What leaves by an interface.
pub fn out_by(name: &str) -> Vec<Expression> {
    by(MetaKey::OutInterfaceName, name)
}

fn by(key: MetaKey, name: &str) -> Vec<Expression> {
    let mut bytes = name.as_bytes().to_vec();
    bytes.resize(16, 0);
    vec![Expression::Meta { register: ONE, key }, equal(bytes)]
}

fn icmp(family: u8, number: u8, kinds: &[u8], batch: &mut Batch, id: u32) -> Vec<Expression> {
    let set = set(&format!("__set{id}"), id, 0, 1);
    batch.new_set(&set);
    let elements: Vec<Element> = kinds.iter().map(|it| Element::key(vec![*it])).collect();
    batch.new_elements(&set, &elements);
    let version = vec![Expression::Meta { register: ONE, key: MetaKey::Family }, equal([family])];
    let kind = Expression::Payload { register: ONE, base: Base::Transport, offset: 0, length: 1 };
    [version, protocol(number), vec![kind, lookup(&set)]].concat()
}

fn set(name: &str, id: u32, flags: u32, key_length: u32) -> nf::Set {
    nf::Set { table: TABLE.into(), name: name.into(), flags, key_length, id, ..nf::Set::default() }
}

/// What an owner writes at a rule, as the kernel keeps it for him.
pub fn remark(text: &str) -> Vec<u8> {
    let length = u8::try_from(text.len() + 1).expect("short");
    [&[0, length], text.as_bytes(), &[0]].concat()
}

/// The chains and their first rules, with more rules for what arrives.
pub fn sieve(more: Vec<(Vec<Expression>, &str)>) -> Batch {
    let mut batch = Batch::begin(1);
    batch.new_table(&nf::Table { name: TABLE.into(), ..nf::Table::default() });
    let four = set("curators4", 1, set_flags::INTERVAL, 4);
    batch.new_set(&four);
    batch.new_elements(
        &four,
        &[Element::key(vec![198, 51, 100, 0]), Element::end(vec![198, 51, 100, 32])],
    );
    let six = set("curators6", 2, set_flags::INTERVAL, 16);
    let network = |it: &str| it.parse::<std::net::Ipv6Addr>().expect("one").octets().to_vec();
    batch.new_set(&six);
    batch.new_elements(
        &six,
        &[Element::key(network("2001:db8:51::")), Element::end(network("2001:db8:51:1::"))],
    );
    for (name, number) in [("arrivals", Hook::LOCAL_IN), ("through", Hook::FORWARD)] {
        batch.new_chain(&nf::Chain {
            table: TABLE.into(),
            name: name.into(),
            kind: Some("filter".into()),
            hook: Some(Hook { number, priority: 0 }),
            policy: Some(0),
            ..nf::Chain::default()
        });
    }
    let web = set("web-doors", 3, 0, 2);
    batch.new_set(&web);
    let ports = [80u16, 443].map(|it| Element::key(it.to_be_bytes().to_vec()));
    batch.new_elements(&web, &ports);
    let pings4 = icmp(2, 1, &[8], &mut batch, 4);
    let pings6 = icmp(10, 58, &[128], &mut batch, 5);
    let neighbours = icmp(10, 58, &[133, 134, 135, 136], &mut batch, 6);
    let mut add = |chain: &str, expressions: Vec<Expression>, text: &str| {
        batch.new_rule(&Rule {
            table: TABLE.into(),
            chain: chain.into(),
            expressions,
            user_data: if text.is_empty() { Vec::new() } else { remark(text) },
            ..Rule::default()
        });
    };
    let with = |tests: Vec<Expression>| [tests, vec![counter(), accept()]].concat();
    add("arrivals", [states(1), vec![deny()]].concat(), "");
    add("arrivals", with(states(6)), "");
    add("arrivals", with(interface("lo")), "");
    add("arrivals", with(pings4), "");
    add("arrivals", with(pings6), "");
    add("arrivals", with(neighbours), "");
    add(
        "arrivals",
        with([protocol(6), vec![port(), lookup(&web)]].concat()),
        "the catalogue is for everybody",
    );
    for set in [&four, &six] {
        add("arrivals", with([to_port(2202), from(set)].concat()), "remote shell");
    }
    for (expressions, text) in more {
        add("arrivals", expressions, text);
    }
    add("through", with(states(6)), "");
    batch
}
