//! The meaning of a rule program.

use super::atlas::{Atlas, Meaning};
use super::chains::Chains;
use super::diagram::{Diagram, Way};
use super::fate::{Fate, INSIDE, NOTHING};
use super::fields::{
    DESTINATION_IS, FAMILY, Field, ICMP_TYPE, IN_INTERFACE, OUT_INTERFACE, PORT, PROTOCOL,
    SOURCE_IS, SOURCE_PORT, STATE, address_ways, destination, icmp, relation_ways, source,
    state_ways, ways,
};
use crate::plan::RuleId;
use crate::policy::Verdict;
use crate::program::{
    Action, Chain, End, Entry, Key, Lookup, ProgramRule, RuleProgram, Test, Then,
};
use crate::space::{AddressSet, Direction, Family, PortProtocol, RangeSet, Relation, RelationSet};

impl Atlas {
    /// The meaning of a program. Packets of a direction for which it has no chain are undecided.
    pub fn program(&mut self, program: &RuleProgram) -> Meaning {
        let mut chains = Chains::of(program);
        let roots = Direction::ALL.map(|direction| {
            let Some(chain) = program.base(direction) else { return NOTHING };
            let rules = self.chain(chain, &mut chains);
            let passes = chain.base.is_some_and(|base| base.passes);
            let verdict = if passes { Verdict::Allow } else { Verdict::Deny };
            let by = RuleId::default_for(direction);
            let end = self.fates.leaf(Fate::Decided { by, verdict });
            self.first_of(&[rules, end])
        });
        Meaning { roots }
    }

    fn chain<'p>(&mut self, chain: &'p Chain, chains: &mut Chains<'p>) -> Diagram {
        match chains.known.insert(&chain.name, None) {
            None => {}
            Some(Some(done)) => {
                chains.known.insert(&chain.name, Some(done));
                return done;
            }
            // Jumps in a circle: the kernel refuses them.
            Some(None) => return self.fates.leaf(Fate::Unknown),
        }
        let mut list = Vec::with_capacity(chain.rules.len());
        self.lines(chain, &[], chains, &mut list);
        let done = self.first_of(&list);
        chains.known.insert(&chain.name, Some(done));
        done
    }

    /// What the rules of a chain decide where tests hold, one by one. A chain that only one rule leads to
    /// stands as if in its place: what it leaves undecided goes on behind it.
    fn lines<'p>(
        &mut self,
        chain: &'p Chain,
        tests: &[Diagram],
        chains: &mut Chains<'p>,
        list: &mut Vec<Diagram>,
    ) {
        for rule in &chain.rules {
            if let Some(inner) = chains.only_of(rule) {
                let more: Vec<Diagram> = rule.tests.iter().filter_map(|it| self.test(it)).collect();
                chains.known.insert(&inner.name, None);
                self.lines(inner, &[tests, &more].concat(), chains, list);
            } else {
                let line = self.rule(rule, chains);
                list.push(self.where_all_hold(tests.to_vec(), line));
            }
        }
    }

    fn rule<'p>(&mut self, rule: &'p ProgramRule, chains: &mut Chains<'p>) -> Diagram {
        let mut then = match &rule.action {
            Action::Allow => self.decided(rule.id.as_ref(), Verdict::Allow),
            Action::Deny => self.decided(rule.id.as_ref(), Verdict::Deny),
            Action::Reset | Action::Prohibit => self.decided(rule.id.as_ref(), Verdict::Reject),
            Action::AllowWithin(rate) | Action::AllowEach(rate, _) => match &rule.id {
                Some(by) => {
                    let beyond = Box::new(Fate::Undecided);
                    self.fates.leaf(Fate::Within { by: by.clone(), rate: *rate, beyond })
                }
                None => self.fates.leaf(Fate::Unknown),
            },
            // It lets none pass beyond the rate of its sender.
            Action::AllowCrowded(..) | Action::Log(_) => NOTHING,
            Action::Jump(name) => self.jump(name, chains),
            Action::Choose(lookup) => self.choose(lookup, chains),
            Action::Opaque(_) => self.fates.leaf(Fate::Unknown),
        };
        // What cannot be told leaves unknown what becomes of the packets that pass the others.
        if rule.tests.iter().any(|test| matches!(test, Test::Opaque(_))) {
            then = self.fates.leaf(Fate::Unknown);
        }
        let tests = rule.tests.iter().filter_map(|test| self.test(test)).collect();
        self.where_all_hold(tests, then)
    }

    fn where_all_hold(&mut self, mut tests: Vec<Diagram>, then: Diagram) -> Diagram {
        // Tests of late fields first: so each finds the fields behind its own done already.
        tests.sort_by_key(|test| std::cmp::Reverse(self.diagrams.first_bit(*test)));
        tests.into_iter().fold(then, |then, test| self.where_holds(test, then))
    }

    fn decided(&mut self, by: Option<&RuleId>, verdict: Verdict) -> Diagram {
        let fate = by.map_or(Fate::Unknown, |by| Fate::Decided { by: by.clone(), verdict });
        self.fates.leaf(fate)
    }

    fn jump<'p>(&mut self, name: &str, chains: &mut Chains<'p>) -> Diagram {
        match chains.program.chain(name) {
            Some(chain) => self.chain(chain, chains),
            None => self.fates.leaf(Fate::Unknown),
        }
    }

    /// The set of packets that pass a test; `None` if that cannot be told.
    fn test(&mut self, test: &Test) -> Option<Diagram> {
        Some(match test {
            Test::InInterface(test) => {
                let Some(ways) = self.words.interface_ways(test, INSIDE) else {
                    return Some(INSIDE);
                };
                IN_INTERFACE.fork(&mut self.diagrams, &ways, NOTHING)
            }
            Test::OutInterface(test) => {
                let Some(ways) = self.words.interface_ways(test, INSIDE) else {
                    return Some(INSIDE);
                };
                OUT_INTERFACE.fork(&mut self.diagrams, &ways, NOTHING)
            }
            Test::State(states) => {
                STATE.fork(&mut self.diagrams, &state_ways(*states, INSIDE), NOTHING)
            }
            Test::Family(Family::V4) => FAMILY.either(&mut self.diagrams, INSIDE, NOTHING),
            Test::Family(Family::V6) => FAMILY.either(&mut self.diagrams, NOTHING, INSIDE),
            Test::Protocol(numbers) => self.protocols(numbers, INSIDE),
            Test::Source(set) => self.addresses(set, source),
            Test::Destination(set) => self.addresses(set, destination),
            Test::IcmpType(types) => {
                let types = ICMP_TYPE.fork(&mut self.diagrams, &ways(types, INSIDE), NOTHING);
                self.icmp_only(types)
            }
            Test::SourcePort(ports) => {
                let ports = SOURCE_PORT.fork(&mut self.diagrams, &ways(ports, INSIDE), NOTHING);
                self.protocols(&PortProtocol::numbers(), ports)
            }
            Test::DestinationPort(ports) => {
                let ports = PORT.fork(&mut self.diagrams, &ways(ports, INSIDE), NOTHING);
                self.protocols(&PortProtocol::numbers(), ports)
            }
            Test::Published(ports) => {
                let asked = self.asked(ports, INSIDE);
                self.protocols(&PortProtocol::numbers(), asked)
            }
            Test::Program(paths) => self.programs(paths, INSIDE),
            Test::User(users) => self.users(users, INSIDE),
            Test::Own(end, is) => self.relation(*end, |it| it.own == *is),
            Test::OnLink(end, family, is) => {
                let found = self.relation(*end, |it| it.on_link == *is);
                self.only_family(found, *family)
            }
            Test::Before(_) => INSIDE,
            Test::Opaque(_) => return None,
        })
    }

    fn relation(&mut self, end: End, picked: impl Fn(Relation) -> bool) -> Diagram {
        let field = match end {
            End::Source => SOURCE_IS,
            End::Destination => DESTINATION_IS,
        };
        let ways = relation_ways(RelationSet::of(picked), INSIDE);
        field.fork(&mut self.diagrams, &ways, NOTHING)
    }

    fn protocols(&mut self, numbers: &RangeSet<u8>, then: Diagram) -> Diagram {
        PROTOCOL.fork(&mut self.diagrams, &ways(numbers, then), NOTHING)
    }

    /// Only packets of the IP version's own ICMP have a type.
    fn icmp_only(&mut self, then: Diagram) -> Diagram {
        let [v4, v6] =
            Family::BOTH.map(|family| self.protocols(&RangeSet::single(icmp(family)), then));
        FAMILY.either(&mut self.diagrams, v4, v6)
    }

    fn addresses(&mut self, set: &AddressSet, field: fn(Family) -> Field) -> Diagram {
        let [v4, v6] = Family::BOTH.map(|family| {
            let ways = address_ways(set, family, INSIDE);
            field(family).fork(&mut self.diagrams, &ways, NOTHING)
        });
        FAMILY.either(&mut self.diagrams, v4, v6)
    }

    fn choose<'p>(&mut self, lookup: &'p Lookup, chains: &mut Chains<'p>) -> Diagram {
        let mut leads = Vec::with_capacity(lookup.entries.len());
        for entry in &lookup.entries {
            let then = match &entry.then {
                Then::Allow(id) => self.decided(Some(id), Verdict::Allow),
                Then::Deny(id) => self.decided(Some(id), Verdict::Deny),
                Then::Jump(name) => self.jump(name, chains),
                Then::Opaque(_) => self.fates.leaf(Fate::Unknown),
            };
            leads.push((entry, then));
        }
        match lookup.key {
            Key::Source(family) => self.by_address(&leads, source(family), family),
            Key::Destination(family) => self.by_address(&leads, destination(family), family),
            Key::DestinationPort => {
                let found = self.by_field(&leads, PORT);
                let only = self.protocols(&PortProtocol::numbers(), INSIDE);
                self.where_holds(only, found)
            }
            Key::IcmpType => {
                let found = self.by_field(&leads, ICMP_TYPE);
                let only = self.icmp_only(INSIDE);
                self.where_holds(only, found)
            }
            Key::SourceService(family) => self.by_service(&leads, source(family), family),
            Key::DestinationService(family) => self.by_service(&leads, destination(family), family),
        }
    }

    fn by_address(&mut self, leads: &[(&Entry, Diagram)], field: Field, family: Family) -> Diagram {
        // What is asked again of the IP version is known here.
        let mut leads = leads.to_vec();
        for (_, then) in &mut leads {
            *then = self.in_family(*then, family);
        }
        let found = self.by_field(&leads, field);
        self.only_family(found, family)
    }

    fn in_family(&self, diagram: Diagram, family: Family) -> Diagram {
        self.diagrams.at(diagram, FAMILY.bit, u128::from(family == Family::V6))
    }

    fn only_family(&mut self, diagram: Diagram, family: Family) -> Diagram {
        let [v4, v6] = Family::BOTH.map(|it| if it == family { INSIDE } else { NOTHING });
        let test = FAMILY.either(&mut self.diagrams, v4, v6);
        self.where_holds(test, diagram)
    }

    /// Entries by one field, whatever what they lead to asks.
    fn by_field(&mut self, leads: &[(&Entry, Diagram)], field: Field) -> Diagram {
        if leads.iter().all(|lead| field.precedes(&self.diagrams, lead.1)) {
            let ways: Vec<Way> =
                leads.iter().map(|(entry, then)| (entry.first.0, entry.last.0, *then)).collect();
            return field.fork(&mut self.diagrams, &ways, NOTHING);
        }
        let mut parts = Vec::with_capacity(leads.len());
        for (entry, then) in leads {
            let way = [(entry.first.0, entry.last.0, INSIDE)];
            let test = field.fork(&mut self.diagrams, &way, NOTHING);
            parts.push(self.where_holds(test, *then));
        }
        self.first_of(&parts)
    }

    /// Entries by address, protocol and port.
    fn by_service(&mut self, leads: &[(&Entry, Diagram)], field: Field, family: Family) -> Diagram {
        // What is asked again of the IP version is known here.
        let leads: Vec<_> =
            leads.iter().map(|lead| (lead.0, self.in_family(lead.1, family))).collect();
        if leads.iter().all(|lead| PORT.precedes(&self.diagrams, lead.1)) {
            return self.services(&leads, field, family);
        }
        let mut parts = Vec::with_capacity(leads.len());
        for (entry, then) in leads {
            let test = self.services(&[(entry, INSIDE)], field, family);
            parts.push(self.where_holds(test, then));
        }
        self.first_of(&parts)
    }

    fn services(&mut self, leads: &[(&Entry, Diagram)], field: Field, family: Family) -> Diagram {
        let mut by_address: Vec<Way> = Vec::new();
        for group in leads.chunk_by(|a, b| a.0.first.0 == b.0.first.0) {
            let mut by_protocol: Vec<Way> = Vec::new();
            for part in group.chunk_by(|a, b| a.0.first.1 >> 16 == b.0.first.1 >> 16) {
                let ports: Vec<Way> = part
                    .iter()
                    .map(|(entry, then)| {
                        let port = u128::from(entry.first.1 & 0xffff);
                        (port, port, *then)
                    })
                    .collect();
                let number = u128::from(part[0].0.first.1 >> 16);
                let ports = PORT.fork(&mut self.diagrams, &ports, NOTHING);
                by_protocol.push((number, number, ports));
            }
            let address = group[0].0.first.0;
            let protocols = PROTOCOL.fork(&mut self.diagrams, &by_protocol, NOTHING);
            by_address.push((address, address, protocols));
        }
        let found = field.fork(&mut self.diagrams, &by_address, NOTHING);
        let found = self.where_ports(found);
        self.only_family(found, family)
    }

    /// Only packets of some protocols have ports.
    fn where_ports(&mut self, diagram: Diagram) -> Diagram {
        let only = self.protocols(&PortProtocol::numbers(), INSIDE);
        self.where_holds(only, diagram)
    }
}
