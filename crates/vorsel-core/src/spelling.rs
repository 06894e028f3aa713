//! What may have been meant by a misspelt name.

/// The nearest of `known` to a misspelt name, as advice; empty if none is near.
#[doc(hidden)]
#[must_use]
pub fn did_you_mean<'a>(name: &str, known: impl Iterator<Item = &'a str>) -> String {
    // Nobody misspells a name so long, and comparing two of them takes their lengths multiplied.
    const LONGEST: usize = 64;
    known
        .filter(|candidate| name.len() <= LONGEST && candidate.len() <= LONGEST)
        .map(|candidate| (distance(name, candidate), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.chars().count() / 4)
        .min()
        .map_or_else(String::new, |(_, candidate)| format!("; did you mean {candidate:?}?"))
}

/// Edits between two names: insertions, deletions, replacements.
fn distance(left: &str, right: &str) -> usize {
    let right: Vec<char> = right.chars().collect();
    let mut row: Vec<usize> = (0..=right.len()).collect();
    for (i, from) in left.chars().enumerate() {
        let mut diagonal = row[0];
        row[0] = i + 1;
        for (j, to) in right.iter().enumerate() {
            let replaced = diagonal + usize::from(from != *to);
            diagonal = row[j + 1];
            row[j + 1] = replaced.min(diagonal + 1).min(row[j] + 1);
        }
    }
    row[right.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names_are_proposed_and_far_ones_are_not() {
        let roles = ["visitor", "observer", "operator", "director"];
        for (name, advice) in [
            ("operater", "; did you mean \"operator\"?"),
            ("obsrver", "; did you mean \"observer\"?"),
            ("astronaut", ""),
        ] {
            assert_eq!(did_you_mean(name, roles.into_iter()), advice);
        }
        assert_eq!(distance("", "abc"), 3);
        assert_eq!(distance("kitten", "sitting"), 3);
    }
}
