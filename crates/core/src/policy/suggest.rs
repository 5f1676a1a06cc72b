//! Near misses: the name somebody probably meant.

/// The candidate closest to `word`, when it is close enough to be a likely typing mistake:
/// at most one edit in four letters, swapped neighbours counting as one edit.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = 1 + word.chars().count() / 4;
    candidates
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(word, candidate), candidate))
        .filter(|&(distance, candidate)| distance <= allowed && distance < candidate.len())
        .min_by_key(|&(distance, _)| distance)
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn only_likely_slips_are_offered() {
        let names = ["curators", "herbarium", "strangers"];
        assert_eq!(nearest("curatros", names), Some("curators"));
        assert_eq!(nearest("herbaruim", names), Some("herbarium"));
        assert_eq!(nearest("visitors", names), None);
        assert_eq!(nearest("x", ["y"]), None);
    }
}
