//! Which requests meet at which entries: the paths of one or two patterns, part by part.

use std::collections::BTreeMap;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use super::atoms::{Binding, Piece};
use crate::plan::pattern::{PathPattern, PatternPart};

/// What stands as it is in a path ([RFC 3986 section 2.3](https://www.rfc-editor.org/rfc/rfc3986#section-2.3)).
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Paths of one form: fixed parts, and variable ones that may be any text that is not empty.
#[derive(Clone, Debug)]
pub(in crate::plan) struct Shape {
    /// Each part's fixed beginning and the number of its variable end.
    parts: Vec<(String, Option<usize>)>,
    /// What each parameter of the pattern stands for, for one pattern or for two.
    pub(in crate::plan) bindings: Vec<Binding>,
}

impl Shape {
    /// The path with these values; one that is missing is written as bytes that are no UTF-8. `plainly` writes a value
    /// as it is where it can be; otherwise each byte is encoded, so that no fixed part of another pattern is met.
    pub(in crate::plan) fn path(&self, value: impl Fn(usize) -> Option<String>, plainly: bool) -> String {
        let mut path = String::new();
        for (fixed, variable) in &self.parts {
            path.push('/');
            path.push_str(fixed);
            match variable.map(&value) {
                None => {}
                Some(None) => path.push_str("%FF"),
                Some(Some(text)) if plainly && text != "." && text != ".." => {
                    path.extend(utf8_percent_encode(&text, ENCODED));
                }
                Some(Some(text)) => text.bytes().for_each(|byte| path.push_str(&format!("%{byte:02X}"))),
            }
        }
        path
    }

    /// The shape of one pattern as the second of two, where the first has none.
    pub(in crate::plan) fn second(mut self) -> Self {
        self.bindings.insert(0, Binding::new());
        self
    }

    /// A path of this form that meets no pattern with more fixed parts than the form has.
    pub(in crate::plan) fn representative(&self) -> String {
        self.path(|part| Some(format!("any-{part}")), false)
    }
}

/// The forms of the paths that a pattern takes. `deepest` is how many parts any pattern has: what takes the rest of a
/// path may have to take more parts than others know of to come into its own.
pub(in crate::plan) fn shapes(pattern: &str, deepest: usize) -> Vec<Shape> {
    spread(PathPattern::read(pattern).parts(), deepest).iter().filter_map(|parts| meet(parts, None)).collect()
}

/// The forms of the paths that both patterns take.
pub(in crate::plan) fn meetings(one: &str, other: &str, deepest: usize) -> Vec<Shape> {
    // Most patterns of a plan differ in a fixed part, which is seen at a glance.
    let differ = |(one, other): (&str, &str)| one != other && !one.contains('{') && !other.contains('{');
    if one.split('/').zip(other.split('/')).any(differ) {
        return Vec::new();
    }
    let (one, other) = ([one, other].map(|pattern| spread(PathPattern::read(pattern).parts(), deepest))).into();
    let pairs = one.iter().flat_map(|one| other.iter().map(move |other| (one, other)));
    pairs.filter(|(one, other)| one.len() == other.len()).filter_map(|(one, other)| meet(one, Some(other))).collect()
}

/// How many parts a pattern has.
pub(in crate::plan) fn depth(pattern: &str) -> usize {
    pattern.matches('/').count()
}

/// The pattern with what takes the rest taking one part, two parts and so on.
fn spread(parts: &[PatternPart], deepest: usize) -> Vec<Vec<PatternPart>> {
    let Some((last, before)) = parts.split_last().filter(|(last, _)| last.takes_rest) else {
        return vec![parts.to_vec()];
    };
    let more = PatternPart { fixed: String::new(), ..last.clone() };
    let longest = (deepest + 1).saturating_sub(before.len()).max(1);
    (0..longest)
        .map(|times| {
            let mut parts = [before, std::slice::from_ref(last)].concat();
            parts.extend(std::iter::repeat_n(more.clone(), times));
            parts
        })
        .collect()
}

fn meet(one: &[PatternPart], other: Option<&[PatternPart]>) -> Option<Shape> {
    let mut shape = Shape { parts: Vec::new(), bindings: vec![BTreeMap::new(); if other.is_some() { 2 } else { 1 }] };
    for (at, part) in one.iter().enumerate() {
        let patterns: Vec<&PatternPart> = std::iter::once(part).chain(other.map(|other| &other[at])).collect();
        let fixed = patterns.iter().map(|part| &part.fixed).max_by_key(|fixed| fixed.len()).cloned()?;
        let fits = |part: &&PatternPart| {
            let rest = fixed.strip_prefix(part.fixed.as_str());
            // A pattern without a parameter takes its own text only; a parameter is never empty.
            let ends_here = patterns.iter().any(|part| part.parameter.is_none());
            match (&part.parameter, rest) {
                (_, None) => false,
                (None, Some(rest)) => rest.is_empty(),
                (Some(_), Some(rest)) => !ends_here || !rest.is_empty(),
            }
        };
        if !patterns.iter().all(fits) {
            return None;
        }
        let variable = patterns.iter().all(|part| part.parameter.is_some()).then_some(at);
        for (part, binding) in patterns.iter().zip(&mut shape.bindings) {
            let Some(name) = &part.parameter else { continue };
            let begun = binding.contains_key(name);
            let pieces: &mut Vec<Piece> = binding.entry(name.clone()).or_default();
            if begun {
                pieces.push(Piece::Text("/".to_owned()));
            }
            let rest = &fixed[part.fixed.len()..];
            if !rest.is_empty() {
                pieces.push(Piece::Text(rest.to_owned()));
            }
            pieces.extend(variable.map(Piece::Variable));
        }
        shape.parts.push((fixed, variable));
    }
    Some(shape)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_meet_where_a_path_fits_both() {
        for (one, other, paths) in [
            ("/a", "/a", &["/a"][..]),
            ("/a", "/b", &[]),
            ("/a/{x}", "/a/b", &["/a/b"]),
            ("/a/{x}", "/{y}/b", &["/a/b"]),
            ("/a/{x}", "/a/{y}", &["/a/any-1"]),
            ("/a/{x}", "/a", &[]),
            ("/a/{x}", "/a/", &[]),
            ("/a/con{x}", "/a/contact", &["/a/contact"]),
            ("/a/con{x}", "/a/con", &[]),
            ("/a/con{x}", "/a/c{y}", &["/a/conany-1"]),
            ("/a/{*rest}", "/a/{x}/c", &["/a/any-1/c"]),
            ("/a/{*rest}", "/{*all}", &["/a/any-1", "/a/any-1/any-2"]),
            ("/{{a}}/{x}", "/{{a}}/{y}", &["/{a}/any-1"]),
        ] {
            let seen: Vec<_> = meetings(one, other, 2)
                .iter()
                .map(|shape| shape.path(|part| Some(format!("any-{part}")), true))
                .collect();
            assert_eq!(seen, paths, "{one} and {other}");
        }
        let shape = &meetings("/a/{*rest}", "/a/{x}/c", 3)[0];
        let (rest, x) = (&shape.bindings[0]["rest"], &shape.bindings[1]["x"]);
        assert_eq!(*x, [Piece::Variable(1)]);
        assert_eq!(*rest, [Piece::Variable(1), Piece::Text("/".to_owned()), Piece::Text("c".to_owned())]);
    }

    #[test]
    fn values_are_written_so_that_they_arrive() {
        let shape = &shapes("/a/{x}", 2)[0];
        for (value, plainly, path) in [
            (Some("obs-0017"), true, "/a/obs-0017"),
            (Some("a/b é"), true, "/a/a%2Fb%20%C3%A9"),
            (Some(".."), true, "/a/%2E%2E"),
            (Some("b"), false, "/a/%62"),
            (None, true, "/a/%FF"),
        ] {
            assert_eq!(shape.path(|_| value.map(str::to_owned), plainly), path);
        }
    }
}
