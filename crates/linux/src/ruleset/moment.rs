//! Up to which moment a rule is heeded.

use tipstaff_core::policy::Time;
use tipstaff_wire::nf_tables::{Compare, Expression, MetaKey, registers};

/// What breaks a rule off from that moment on.
pub(super) fn before(time: Time) -> [Expression; 3] {
    const FIRST: u32 = registers::FIRST;
    // Before 1970 nothing comes.
    let seconds = u64::try_from(time.seconds()).unwrap_or(0);
    let nanoseconds = seconds.saturating_mul(1_000_000_000);
    [
        Expression::Meta { key: MetaKey::Time, register: FIRST },
        Expression::Byteorder { source: FIRST, destination: FIRST },
        Expression::Cmp {
            register: FIRST,
            op: Compare::Less,
            data: nanoseconds.to_be_bytes().to_vec(),
        },
    ]
}
