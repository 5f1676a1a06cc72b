//! Parts in the form of the kernel's older packet filter, from a seed.

use crate::translated::older::older;
use crate::translated::parts::Dice;
use tipstaff_wire::nf_tables::Expression;

/// A part that asks for states or for the kind of an address (linux/netfilter/xt_conntrack.h, xt_addrtype.h). Those about
/// ports are only taken with the protocol written at the rule, which nobody here does.
pub fn older_form(dice: &mut Dice) -> Vec<Expression> {
    let inverted = u8::from(dice.below(3) == 0);
    let part = |name, revision, info: &[u8]| vec![older("match", name, revision, info)];
    if dice.below(3) == 0 {
        // To one of its own.
        return part("addrtype", 1, &[0, 0, 4, 0, 2 * inverted, 0, 0, 0]);
    }
    let mut info = vec![0; 168];
    let mask = dice.of(&[8u16, 6, 1, 9]);
    info[146] = 1;
    info[148] = inverted;
    info[150..152].copy_from_slice(&mask.to_ne_bytes());
    part("conntrack", 3, &info)
}
