//! The numbers by which rules know programs.
//!
//! A program's number stands in some bits of the marks of its sockets. Each list of programs that
//! rules name becomes a set of numbers in our table. There each number carries the path it stands
//! for; one without a path is another name of a file on the list. So the rules themselves say what
//! they mean, and a program can be told apart from the file it is at the moment.

use crate::LinuxError;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use tipstaff_core::program::RuleProgram;

pub use tipstaff_core::policy::PROGRAM_MARKS as DEFAULT_MASK;

/// A number on a list, and the path it stands for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Numbered {
    /// The number, not yet shifted to its place in the mark.
    pub number: u32,
    /// The path; `None` if it stands for the same file as one of the list.
    pub path: Option<String>,
}

/// The lists of programs that rules name, and their numbers.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Marks {
    /// The bits of a mark that hold the number; zero if no rule names a program.
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

impl Marks {
    /// Numbers for lists of programs. Paths keep the number that they had `before`, and no number
    /// in `taken` is given to another. `known_as` gives further numbers under which the file at a
    /// path is known.
    ///
    /// # Errors
    /// How many numbers there are, if they do not suffice.
    pub fn number(
        mask: u32,
        lists: &BTreeSet<Vec<String>>,
        before: &BTreeMap<String, u32>,
        taken: &BTreeSet<u32>,
    ) -> Result<BTreeMap<String, u32>, u32> {
        let paths: BTreeSet<&String> = lists.iter().flatten().collect();
        let mut numbers: BTreeMap<String, u32> = BTreeMap::new();
        let kept = paths.iter().filter_map(|&path| Some((path.clone(), *before.get(path)?)));
        numbers.extend(kept);
        let mut used: BTreeSet<u32> = before.values().chain(taken).copied().collect();
        for path in paths {
            if numbers.contains_key(path) {
                continue;
            }
            let free = (1..=Self::most(mask)).find(|it| !used.contains(it));
            let number = free.ok_or(Self::most(mask))?;
            used.insert(number);
            numbers.insert(path.clone(), number);
        }
        Ok(numbers)
    }

    /// Lists with the numbers of their paths, and with further numbers under which files are known.
    #[must_use]
    pub fn of(
        mask: u32,
        lists: &BTreeSet<Vec<String>>,
        numbers: &BTreeMap<String, u32>,
        known_as: &BTreeMap<String, u32>,
    ) -> Self {
        let entries = |list: &Vec<String>| {
            let own = |path: &String| Some((*numbers.get(path)?, Some(path.clone())));
            let mut entries: BTreeMap<u32, Option<String>> = list.iter().filter_map(own).collect();
            for number in list.iter().filter_map(|path| known_as.get(path)) {
                entries.entry(*number).or_insert(None);
            }
            entries.into_iter().map(|(number, path)| Numbered { number, path }).collect()
        };
        let lists: BTreeMap<_, _> =
            lists.iter().map(|list| (list.clone(), entries(list))).collect();
        Self { mask: if lists.is_empty() { 0 } else { mask }, lists }
    }

    /// Numbers for the programs that rules name, where nothing else is to be regarded: for labs,
    /// which set the marks of their sockets themselves.
    ///
    /// # Errors
    /// How many numbers there are, if they do not suffice.
    pub fn alone(mask: u32, lists: &BTreeSet<Vec<String>>) -> Result<Self, u32> {
        let numbers = Self::number(mask, lists, &BTreeMap::new(), &BTreeSet::new())?;
        Ok(Self::of(mask, lists, &numbers, &BTreeMap::new()))
    }

    /// The number of each path.
    #[must_use]
    pub fn numbers(&self) -> BTreeMap<String, u32> {
        let entries = self.lists.values().flatten();
        entries.filter_map(|it| Some((it.path.clone()?, it.number))).collect()
    }

    /// The path by which rules know the program whose number a mark holds.
    #[must_use]
    pub fn path_of(&self, mark: u32) -> Option<&str> {
        let number = Self::number_in(self.mask, mark);
        let named =
            self.lists.values().flatten().find(|it| it.number == number && it.path.is_some());
        if let Some(named) = named {
            return named.path.as_deref();
        }
        // Another name of a file on a list.
        let list = self.lists.iter().find(|it| it.1.iter().any(|it| it.number == number));
        list?.0.first().map(String::as_str)
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

/// Numbers for the programs of rules whose marks nobody else sets.
pub(super) fn alone(program: &RuleProgram) -> Result<Marks, LinuxError> {
    Marks::alone(DEFAULT_MASK, &program.program_lists()).map_err(too_many_programs)
}

/// There are more programs than numbers.
pub(crate) fn too_many_programs(most: u32) -> LinuxError {
    LinuxError::Refused {
        doing: "tell programs apart".into(),
        reason: format!(
            "the bits of marks that `program-marks` sets aside hold {most} programs, and the rules \
             name more"
        )
        .into(),
    }
}

#[cfg(test)]
mod tests {
    use super::{DEFAULT_MASK, Marks, Numbered};
    use std::collections::{BTreeMap, BTreeSet};

    fn lists(of: &[&[&str]]) -> BTreeSet<Vec<String>> {
        of.iter().map(|list| list.iter().map(|&it| it.to_owned()).collect()).collect()
    }

    #[test]
    fn paths_keep_their_numbers_and_no_number_changes_its_meaning() {
        let before = Marks::alone(DEFAULT_MASK, &lists(&[&["/a"], &["/b"]])).expect("few");
        assert_eq!(before.numbers(), BTreeMap::from([("/a".into(), 1), ("/b".into(), 2)]));
        // 3 is in the kernel for some file; 1 still is until the new rules are in force.
        let new = lists(&[&["/b"], &["/c", "/b"]]);
        let taken = BTreeSet::from([1, 2, 3]);
        let numbers = Marks::number(DEFAULT_MASK, &new, &before.numbers(), &taken);
        assert_eq!(numbers, Ok(BTreeMap::from([("/b".into(), 2), ("/c".into(), 4)])));
    }

    #[test]
    fn a_file_with_two_names_is_on_the_list_of_either() {
        let lists = lists(&[&["/a"], &["/b"]]);
        let numbers = BTreeMap::from([("/a".into(), 1), ("/b".into(), 2)]);
        let known_as = BTreeMap::from([("/a".into(), 1), ("/b".into(), 1)]);
        let marks = Marks::of(DEFAULT_MASK, &lists, &numbers, &known_as);
        let other = Numbered { number: 1, path: None };
        assert!(marks.lists[&vec!["/b".to_owned()]].contains(&other));
        assert_eq!(marks.lists[&vec!["/a".to_owned()]].len(), 1);
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
