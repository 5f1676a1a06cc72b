//! The numbers by which rules know whose a socket is.
//!
//! The number of a program, of a user, or of a program that a user runs stands in some bits of the
//! marks of its sockets. Each list of programs or users that rules name becomes a set of numbers in our
//! table. There each number carries the path or user it stands for; one without is another of the same:
//! another name of a file, or a program as one of the users that other rules name. So the rules
//! themselves say what they mean, and an owner can be told apart from the file it is at the moment.

use super::owners::{Numbered, Whose, is_program};
use crate::LinuxError;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use tipstaff_core::program::RuleProgram;

pub use tipstaff_core::policy::PROGRAM_MARKS as DEFAULT_MASK;

/// The lists of programs and users that rules name, and their numbers.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Marks {
    /// The bits of a mark that hold the number; zero if no rule names a program or user.
    pub mask: u32,
    /// Each list, as rules give it, with its entries in ascending order.
    #[serde(with = "pairs")]
    pub lists: BTreeMap<Vec<String>, BTreeSet<Numbered>>,
}

/// A map whose keys are lists, written down as pairs.
mod pairs {
    use super::Numbered;
    use serde::{Deserialize, Deserializer, Serializer};
    use std::collections::{BTreeMap, BTreeSet};

    type Lists = BTreeMap<Vec<String>, BTreeSet<Numbered>>;

    pub(super) fn serialize<S: Serializer>(lists: &Lists, to: S) -> Result<S::Ok, S::Error> {
        to.collect_seq(lists)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Lists, D::Error> {
        Ok(Vec::deserialize(from)?.into_iter().collect())
    }
}

/// What is to be: the host, its rules, and the numbers by which programs are known.
pub type Meant<'a> = (&'a str, &'a RuleProgram, &'a Marks);

impl Marks {
    /// Numbers for what lists tell apart. What had a number `before` keeps it, and no number in `taken` is
    /// given to another.
    ///
    /// # Errors
    /// How many numbers there are, if they do not suffice.
    pub fn number(
        mask: u32,
        lists: &BTreeSet<Vec<String>>,
        before: &BTreeMap<Whose, u32>,
        taken: &BTreeSet<u32>,
    ) -> Result<BTreeMap<Whose, u32>, u32> {
        let all = Whose::all(lists);
        let mut numbers: BTreeMap<Whose, u32> = BTreeMap::new();
        numbers.extend(all.iter().filter_map(|it| Some((it.clone(), *before.get(it)?))));
        let mut used: BTreeSet<u32> = before.values().chain(taken).copied().collect();
        for whose in all {
            if numbers.contains_key(&whose) {
                continue;
            }
            let free = (1..=Self::most(mask)).find(|it| !used.contains(it));
            let number = free.ok_or(Self::most(mask))?;
            used.insert(number);
            numbers.insert(whose, number);
        }
        Ok(numbers)
    }

    /// Lists with the numbers of what is on them, and with further numbers under which that is known.
    #[must_use]
    pub fn of(
        mask: u32,
        lists: &BTreeSet<Vec<String>>,
        numbers: &BTreeMap<Whose, u32>,
        known_as: &BTreeMap<Whose, u32>,
    ) -> Self {
        let entries = |list: &Vec<String>| {
            let mut entries: BTreeMap<u32, Numbered> = BTreeMap::new();
            for (whose, &number) in numbers.iter().filter(|it| it.0.is_on(list)) {
                let plain = Numbered { number, name: None, beside: None };
                let named = match whose {
                    Whose { user: None, program } => Numbered { name: program.clone(), ..plain },
                    // On a list of programs it is one more number of the program.
                    Whose { program: Some(it), .. } if list.contains(it) => plain,
                    Whose { user, program } => {
                        let alone = Whose { user: None, program: program.clone() };
                        let beside = program.as_ref().and_then(|_| numbers.get(&alone).copied());
                        Numbered { name: user.clone(), beside, ..plain }
                    }
                };
                entries.insert(number, named);
            }
            for (_, &number) in known_as.iter().filter(|it| it.0.is_on(list)) {
                let other = Numbered { number, name: None, beside: None };
                entries.entry(number).or_insert(other);
            }
            entries.into_values().collect()
        };
        let lists: BTreeMap<_, _> =
            lists.iter().map(|list| (list.clone(), entries(list))).collect();
        Self { mask: if lists.is_empty() { 0 } else { mask }, lists }
    }

    /// Numbers for what rules name, where nothing else is to be regarded: for labs,
    /// which set the marks of their sockets themselves.
    ///
    /// # Errors
    /// How many numbers there are, if they do not suffice.
    pub fn alone(mask: u32, lists: &BTreeSet<Vec<String>>) -> Result<Self, u32> {
        let numbers = Self::number(mask, lists, &BTreeMap::new(), &BTreeSet::new())?;
        Ok(Self::of(mask, lists, &numbers, &BTreeMap::new()))
    }

    /// The number of each that has one of its own.
    #[must_use]
    pub fn numbers(&self) -> BTreeMap<Whose, u32> {
        let named = |of_programs: bool| {
            let lists = self.lists.iter().filter(move |it| is_program_list(it.0) == of_programs);
            lists.flat_map(|it| it.1).filter_map(|it| Some((it.name.clone()?, it)))
        };
        let programs: BTreeMap<u32, String> =
            named(true).map(|(program, it)| (it.number, program)).collect();
        let alone = programs
            .iter()
            .map(|(number, it)| (Whose { user: None, program: Some(it.clone()) }, *number));
        let users = named(false).filter_map(|(user, it)| {
            let program = match it.beside {
                None => None,
                Some(number) => Some(programs.get(&number)?.clone()),
            };
            Some((Whose { user: Some(user), program }, it.number))
        });
        alone.clone().chain(users).collect()
    }

    /// Whose the rules take a socket with a mark for: nobody's if they name neither its program nor its
    /// user.
    #[must_use]
    pub fn whose(&self, mark: u32) -> Whose {
        let number = Self::number_in(self.mask, mark);
        if let Some((whose, _)) = self.numbers().into_iter().find(|it| it.1 == number) {
            return whose;
        }
        // Another name of what is on a list.
        let on = |of_programs: bool| {
            let mut lists = self.lists.iter().filter(|it| is_program_list(it.0) == of_programs);
            lists.find(|it| it.1.iter().any(|it| it.number == number))?.0.first().cloned()
        };
        Whose { user: on(false), program: on(true) }
    }

    /// The number of the only entry of a list.
    pub(super) fn only(&self, list: &[String]) -> Option<u32> {
        let entries = self.lists.get(list)?;
        entries.first().filter(|_| entries.len() == 1).map(|it| it.number)
    }

    /// Every number that rules compare with.
    #[must_use]
    pub fn used(&self) -> BTreeSet<u32> {
        self.lists.values().flatten().map(|it| it.number).collect()
    }

    /// The largest number for a program. The one above it stands for ourselves.
    #[must_use]
    pub fn most(mask: u32) -> u32 {
        (mask >> mask.trailing_zeros().min(31)).saturating_sub(1)
    }

    /// A number at its place in the mark.
    #[must_use]
    pub fn bits(mask: u32, number: u32) -> u32 {
        number.checked_shl(mask.trailing_zeros()).unwrap_or(0) & mask
    }

    /// The number in a mark.
    #[must_use]
    pub(crate) fn number_in(mask: u32, mark: u32) -> u32 {
        (mark & mask).checked_shr(mask.trailing_zeros()).unwrap_or(0)
    }
}

/// Whether a list is one of programs.
fn is_program_list(list: &[String]) -> bool {
    list.first().is_some_and(|it| is_program(it))
}

/// Numbers for the programs and users of rules whose marks nobody else sets.
pub(super) fn alone(program: &RuleProgram) -> Result<Marks, LinuxError> {
    Marks::alone(DEFAULT_MASK, &program.owner_lists()).map_err(too_many_programs)
}

/// There are enough numbers for the new rules, but not beside those that the old ones still compare with.
pub(crate) fn too_many_beside(most: u32) -> LinuxError {
    LinuxError::Refused {
        doing: "tell apart whose a socket is".into(),
        reason: format!(
            "no number may change its meaning while rules compare with it, and the {most} that \
             `program-marks` sets aside do not suffice for the rules in force and the new ones \
             together; enforce a policy without some of them first, or release the rules in force"
        )
        .into(),
    }
}

/// There are more programs than numbers.
pub(crate) fn too_many_programs(most: u32) -> LinuxError {
    LinuxError::Refused {
        doing: "tell apart whose a socket is".into(),
        reason: format!(
            "the bits of marks that `program-marks` sets aside hold {most} numbers, and the rules \
             name more programs and users (each program needs one for each user besides)"
        )
        .into(),
    }
}

#[cfg(test)]
mod tests {
    use super::{DEFAULT_MASK, Marks, Numbered, Whose};
    use std::collections::{BTreeMap, BTreeSet};

    fn lists(of: &[&[&str]]) -> BTreeSet<Vec<String>> {
        of.iter().map(|list| list.iter().map(|&it| it.to_owned()).collect()).collect()
    }

    fn program(path: &str) -> Whose {
        Whose { user: None, program: Some(path.into()) }
    }

    #[test]
    fn paths_keep_their_numbers_and_no_number_changes_its_meaning() {
        let before = Marks::alone(DEFAULT_MASK, &lists(&[&["/a"], &["/b"]])).expect("few");
        assert_eq!(before.numbers(), BTreeMap::from([(program("/a"), 1), (program("/b"), 2)]));
        // 3 is in the kernel for some file; 1 still is until the new rules are in force.
        let new = lists(&[&["/b"], &["/c", "/b"]]);
        let taken = BTreeSet::from([1, 2, 3]);
        let numbers = Marks::number(DEFAULT_MASK, &new, &before.numbers(), &taken);
        assert_eq!(numbers, Ok(BTreeMap::from([(program("/b"), 2), (program("/c"), 4)])));
    }

    #[test]
    fn a_file_with_two_names_is_on_the_list_of_either() {
        let lists = lists(&[&["/a"], &["/b"]]);
        let numbers = BTreeMap::from([(program("/a"), 1), (program("/b"), 2)]);
        let known_as = BTreeMap::from([(program("/a"), 1), (program("/b"), 1)]);
        let marks = Marks::of(DEFAULT_MASK, &lists, &numbers, &known_as);
        let other = Numbered { number: 1, name: None, beside: None };
        assert!(marks.lists[&vec!["/b".to_owned()]].contains(&other));
        assert_eq!(marks.lists[&vec!["/a".to_owned()]].len(), 1);
    }

    #[test]
    fn programs_and_users_are_told_apart_together() {
        let lists = lists(&[&["/a"], &["/a", "/b"], &["990", "seedbase"], &["seedbase"]]);
        let marks = Marks::alone(DEFAULT_MASK, &lists).expect("few");
        let numbers = marks.numbers();
        // Two programs, two users, and each program as each of the users.
        assert_eq!(numbers.len(), 8);
        assert_eq!(numbers.values().copied().collect::<BTreeSet<_>>(), (1..=8).collect());
        for (whose, number) in &numbers {
            assert_eq!(marks.whose(Marks::bits(DEFAULT_MASK, *number)), *whose);
            for (list, entries) in &marks.lists {
                let listed = [&whose.program, &whose.user];
                let meant = listed.into_iter().flatten().any(|it| list.contains(it));
                let found = entries.iter().find(|it| it.number == *number);
                assert_eq!(found.is_some(), meant, "{list:?} {whose:?}");
                // What stands in the kernel says the same.
                let told = found.map(|it| Numbered::read(it.number, it.text().as_deref()));
                assert_eq!(told.as_ref(), found);
            }
        }
        assert_eq!(marks.whose(Marks::bits(DEFAULT_MASK, 9)), Whose::default());
        // A user who comes later changes no number.
        let more: BTreeSet<_> = lists.iter().cloned().chain([vec!["tidegauge".into()]]).collect();
        let later = Marks::number(DEFAULT_MASK, &more, &numbers, &marks.used()).expect("few");
        assert!(numbers.iter().all(|(whose, number)| later[whose] == *number));
        assert_eq!(later.len(), 11);
    }

    #[test]
    fn numbers_run_out_and_the_last_is_ours() {
        assert_eq!(Marks::most(0x0000_0300), 2);
        let three = lists(&[&["/a", "/b", "/c"]]);
        assert_eq!(Marks::alone(0x0000_0300, &three), Err(2));
        assert_eq!(Marks::bits(0x0000_0300, 2), 0x0200);
        assert_eq!(Marks::number_in(0x0000_0300, 0xffff_feff), 2);
    }
}
