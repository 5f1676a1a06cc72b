//! Comparisons of fields with values.

use super::super::names::{AS_IT_BEGAN, interface_key, state_bit};
use super::super::values::{Key, set_of};
use super::field::Field;
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::policy::Time;
use tipstaff_core::program::Test;
use tipstaff_core::space::{AddressSet, ConnectionState, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{Compare, FAMILY_IPV4, FAMILY_IPV6, ct, fib};

/// That a packet was led here says nothing by itself that a rule program could say, ...
const LED: &str = "ct status";
/// ... nor which way of its connection it goes;
const ITS_WAY: &str = "ct direction";

/// and only behind both does the port of its connection say what was asked for: the test in place of the
/// three.
pub(super) fn published(test: Test, tests: &mut Vec<Test>) -> Test {
    let behind = |text: &str, test: &Test| matches!(test, Test::Opaque(it) if it == text);
    match (test, &tests[..]) {
        (Test::Published(ports), [.., led, way]) if behind(LED, led) && behind(ITS_WAY, way) => {
            tests.truncate(tests.len() - 2);
            Test::Published(ports)
        }
        (Test::Published(_), _) => Test::Opaque("ct original proto-dst".into()),
        (test, _) => test,
    }
}

/// What comparing a field with one value says.
pub(super) fn compare(field: Field, op: Compare, data: &[u8]) -> Test {
    let opaque = || Test::Opaque("cmp".into());
    match (field, op) {
        (Field::InInterface, _) => interface(op, data).map_or_else(opaque, Test::InInterface),
        (Field::OutInterface, _) => interface(op, data).map_or_else(opaque, Test::OutInterface),
        (Field::Family, Compare::Equal) => match data {
            [FAMILY_IPV4] => Test::Family(Family::V4),
            [FAMILY_IPV6] => Test::Family(Family::V6),
            _ => opaque(),
        },
        (Field::StateBits(mask), Compare::NotEqual) if data == [0; 4] => {
            states(mask).map_or_else(opaque, Test::State)
        }
        (Field::StatusBits(ct::LED), Compare::NotEqual) if data == [0; 4] => {
            Test::Opaque(LED.into())
        }
        (Field::Way, Compare::Equal) if data == [AS_IT_BEGAN] => Test::Opaque(ITS_WAY.into()),
        (Field::AddressType(end), Compare::Equal) if data == fib::LOCAL.to_ne_bytes() => {
            Test::Own(end, true)
        }
        (Field::AddressType(end), Compare::NotEqual) if data == fib::LOCAL.to_ne_bytes() => {
            Test::Own(end, false)
        }
        (Field::OrderedTime, Compare::Less) => moment(data).map_or_else(opaque, Test::Before),
        (_, Compare::Equal) => one_of(field, &[(data.to_vec(), data.to_vec())]),
        _ => opaque(),
    }
}

/// What it says that a field is one of some values.
pub(crate) fn one_of(field: Field, ranges: &[(Vec<u8>, Vec<u8>)]) -> Test {
    fn test<T: Key>(
        ranges: &[(Vec<u8>, Vec<u8>)],
        make: impl FnOnce(RangeSet<T>) -> Test,
    ) -> Option<Test> {
        set_of(ranges).map(make)
    }
    let test = match field {
        Field::Protocol => test(ranges, Test::Protocol),
        Field::IcmpType => test(ranges, Test::IcmpType),
        Field::SourcePort => test(ranges, Test::SourcePort),
        Field::DestinationPort => test(ranges, Test::DestinationPort),
        Field::AskedPort => test(ranges, Test::Published),
        Field::Source(Family::V4) => test(ranges, |v4| Test::Source(only_v4(v4))),
        Field::Source(Family::V6) => test(ranges, |v6| Test::Source(only_v6(v6))),
        Field::Destination(Family::V4) => test(ranges, |v4| Test::Destination(only_v4(v4))),
        Field::Destination(Family::V6) => test(ranges, |v6| Test::Destination(only_v6(v6))),
        _ => None,
    };
    test.unwrap_or_else(|| Test::Opaque("comparison".into()))
}

fn only_v4(v4: RangeSet<u32>) -> AddressSet {
    AddressSet { v4, v6: RangeSet::empty() }
}

fn only_v6(v6: RangeSet<u128>) -> AddressSet {
    AddressSet { v4: RangeSet::empty(), v6 }
}

fn moment(data: &[u8]) -> Option<Time> {
    let nanoseconds = u64::from_be_bytes(data.try_into().ok()?);
    let seconds = i64::try_from(nanoseconds / 1_000_000_000).ok()?;
    (nanoseconds % 1_000_000_000 == 0).then(|| Time::from_seconds(seconds))
}

fn interface(op: Compare, data: &[u8]) -> Option<InterfaceTest> {
    let name = std::str::from_utf8(data).ok()?.trim_end_matches('\0').to_owned();
    // A comparison of fewer bytes than a whole name is one with a beginning.
    if interface_key(&name) != data {
        return None;
    }
    match op {
        Compare::Equal => Some(InterfaceTest::Is(name)),
        Compare::NotEqual => Some(InterfaceTest::IsNot(name)),
        Compare::Less | Compare::Unknown(_) => None,
    }
}

fn states(mask: u32) -> Option<StateSet> {
    let found: Vec<ConnectionState> =
        ConnectionState::ALL.into_iter().filter(|&state| mask & state_bit(state) != 0).collect();
    let known = found.iter().fold(0, |bits, &state| bits | state_bit(state));
    (known == mask).then(|| StateSet::of(&found))
}
