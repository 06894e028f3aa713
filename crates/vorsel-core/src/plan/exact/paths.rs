//! Which requests meet at which entries: the paths of one or two patterns, part by part.
//!
//! A part of a path is either fixed by a pattern or up to the client. Who sends any text in a variable part can write it
//! so that no fixed part of another pattern is met, by percent-encoding it, so what text it is makes no difference to which
//! patterns a path meets. Only whether it is empty does, where some pattern has the fixed part alone, and at the end of a
//! path, where no parameter is empty.

use std::collections::BTreeSet;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};

use super::atoms::{Binding, Piece};
use crate::plan::pattern::{PathPattern, PatternPart};

/// What stands as it is in a path ([RFC 3986 section 2.3](https://www.rfc-editor.org/rfc/rfc3986#section-2.3)).
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// How many parts of a path are looked at both empty and not.
const MOST_FORKS: u32 = 6;

/// Every pattern of the plans that a question is about.
#[derive(Debug)]
pub(in crate::plan) struct Patterns {
    deepest: usize,
    /// Fixed parts without a parameter, by their place.
    fixed: BTreeSet<(usize, String)>,
    /// What stands before a parameter, by its place.
    beginnings: BTreeSet<(usize, String)>,
}

/// One part of the paths of a [`Shape`].
#[derive(Clone, Debug)]
struct Part {
    /// The beginning that is fixed, as it is sent.
    fixed: String,
    /// What follows it if that is up to the client: an example that meets no fixed part of any pattern, and whether it may
    /// be empty.
    variable: Option<(String, bool)>,
}

/// Paths of one form.
#[derive(Clone, Debug)]
pub(in crate::plan) struct Shape {
    parts: Vec<Part>,
    /// What each parameter of the pattern stands for, for one pattern or for two.
    pub(in crate::plan) bindings: Vec<Binding>,
    /// Whether these are all paths that meet the patterns in this form. A percent sign at the end of a fixed part, or half
    /// a character, joins with what is sent after it; how is not gone into.
    pub(in crate::plan) is_whole: bool,
}

/// How the variable parts of a path are spelled: the same text can be sent in several ways, and one of them may be what
/// another pattern has as a fixed part.
#[derive(Clone, Copy, Debug)]
pub(in crate::plan) enum Spelling {
    /// As it is, where it can be.
    Plain,
    /// Every byte encoded.
    Encoded,
    /// The first byte encoded, the others as they are where they can be.
    BeginsEncoded,
    /// The first byte as it is, the others encoded.
    EndsEncoded,
}

impl Spelling {
    pub(in crate::plan) const ALL: [Self; 4] = [Self::Plain, Self::Encoded, Self::BeginsEncoded, Self::EndsEncoded];

    fn write(self, text: &str, path: &mut String) {
        let encode =
            |bytes: &[u8], path: &mut String| bytes.iter().for_each(|byte| path.push_str(&format!("%{byte:02X}")));
        let first = text.chars().next().map_or(0, char::len_utf8);
        let (head, tail) = text.split_at(first);
        match self {
            // These would be taken for steps in a path.
            _ if matches!(text, "." | "..") => encode(text.as_bytes(), path),
            Self::Plain => path.extend(utf8_percent_encode(text, ENCODED)),
            Self::Encoded => encode(text.as_bytes(), path),
            Self::BeginsEncoded => {
                encode(head.as_bytes(), path);
                path.extend(utf8_percent_encode(tail, ENCODED));
            }
            Self::EndsEncoded => {
                path.extend(utf8_percent_encode(head, ENCODED));
                encode(tail.as_bytes(), path);
            }
        }
    }
}

impl Patterns {
    pub(in crate::plan) fn of<'p>(patterns: impl IntoIterator<Item = &'p str>) -> Self {
        let mut all = Self { deepest: 0, fixed: BTreeSet::new(), beginnings: BTreeSet::new() };
        for pattern in patterns {
            let pattern = PathPattern::read(pattern);
            all.deepest = all.deepest.max(pattern.parts().len());
            for (at, part) in pattern.parts().iter().enumerate() {
                let kept = if part.parameter.is_some() { &mut all.beginnings } else { &mut all.fixed };
                kept.insert((at, part.fixed.clone()));
            }
        }
        all
    }

    /// The forms of the paths that a pattern takes.
    pub(in crate::plan) fn shapes(&self, pattern: &str) -> Vec<Shape> {
        let pattern = PathPattern::read(pattern);
        self.lengths(&pattern).flat_map(|length| self.meet(&[&spread(pattern.parts(), length)])).collect()
    }

    /// The forms of the paths that both patterns take.
    pub(in crate::plan) fn meetings(&self, one: &str, other: &str) -> Vec<Shape> {
        // Most patterns of a plan differ in a fixed part, which is seen at a glance.
        let differ = |(one, other): (&str, &str)| one != other && !one.contains('{') && !other.contains('{');
        if one.split('/').zip(other.split('/')).any(differ) {
            return Vec::new();
        }
        let (one, other) = (PathPattern::read(one), PathPattern::read(other));
        let lengths = self.lengths(&one).filter(|length| self.lengths(&other).contains(length));
        let pairs = lengths.map(|length| [&one, &other].map(|pattern| spread(pattern.parts(), length)));
        pairs.flat_map(|[one, other]| self.meet(&[&one, &other])).collect()
    }

    /// How many parts the paths of a pattern have. What takes the rest of a path may have to take more parts than others
    /// know of to come into its own.
    fn lengths(&self, pattern: &PathPattern) -> std::ops::RangeInclusive<usize> {
        let own = pattern.parts().len();
        let takes_rest = pattern.parts().last().is_some_and(|last| last.takes_rest);
        own..=if takes_rest { own.max(self.deepest + 1) } else { own }
    }

    /// The forms in which paths with as many parts as these meet them all.
    fn meet(&self, patterns: &[&[PatternPart]]) -> Vec<Shape> {
        let whole = Shape { parts: Vec::new(), bindings: vec![Binding::default(); patterns.len()], is_whole: true };
        let (mut shapes, last) = (vec![whole], patterns[0].len() - 1);
        for at in 0..=last {
            let parts: Vec<&PatternPart> = patterns.iter().map(|pattern| &pattern[at]).collect();
            // What goes on with the rest of a path may be empty even at its end.
            let goes_on: Vec<bool> =
                patterns.iter().map(|pattern| at > 0 && pattern[at].takes_rest && pattern[at - 1].takes_rest).collect();
            let longest =
                parts.iter().map(|part| part.fixed.as_str()).max_by_key(|fixed| fixed.len()).unwrap_or_default();
            let may_be_empty = |index: usize| parts[index].parameter.is_some() && (at < last || goes_on[index]);
            let all_variable = parts.iter().all(|part| part.parameter.is_some());
            let fits = (0..parts.len()).all(|index| {
                let rest = longest.strip_prefix(parts[index].fixed.as_str());
                match (&parts[index].parameter, rest) {
                    (_, None) => false,
                    (None, Some(rest)) => rest.is_empty(),
                    (Some(_), Some(rest)) => all_variable || !rest.is_empty() || may_be_empty(index),
                }
            });
            if !fits {
                return Vec::new();
            }
            let can_end = |index: usize| longest.len() > parts[index].fixed.len() || may_be_empty(index);
            let can_be_empty = all_variable && (0..parts.len()).all(can_end);
            let matters = at == last || self.fixed.contains(&(at, longest.to_owned()));
            let forks = can_be_empty && matters && shapes.len() < 1 << MOST_FORKS;
            let mut all = Vec::new();
            for shape in shapes {
                if all_variable {
                    let variable = Some((self.example(at, longest), can_be_empty && !matters));
                    let mut shape = shape.clone();
                    shape.is_whole &= !can_be_empty || !matters || forks;
                    shape.add(&parts, longest, variable);
                    all.push(shape);
                }
                if !all_variable || forks {
                    let mut shape = shape;
                    shape.add(&parts, longest, None);
                    all.push(shape);
                }
            }
            shapes = all;
        }
        shapes
    }

    /// A text behind a fixed beginning that makes no other fixed part or longer beginning of it.
    fn example(&self, at: usize, fixed: &str) -> String {
        let is_met = |text: &str| {
            let whole = format!("{fixed}{text}");
            let from = (at, fixed.to_owned());
            let longer = self.beginnings.range(from..).take_while(|(place, _)| *place == at);
            self.fixed.contains(&(at, whole.clone()))
                || longer.filter(|(_, longer)| longer.len() > fixed.len()).any(|(_, longer)| whole.starts_with(longer))
        };
        let words = ["any", "some", "one", "else", "0", "-", "_", "~"].into_iter();
        let plain = words.map(|word| format!("{word}-{at}")).find(|word| !is_met(word));
        plain.unwrap_or_else(|| format!("any-{at}"))
    }
}

impl Shape {
    /// Adds a part, of which the patterns have these views.
    fn add(&mut self, patterns: &[&PatternPart], fixed: &str, variable: Option<(String, bool)>) {
        let number = self.parts.len();
        let piece = variable.as_ref().map(|(_, may_be_empty)| Piece::Variable { number, may_be_empty: *may_be_empty });
        for (part, binding) in patterns.iter().zip(&mut self.bindings) {
            let Some(name) = &part.parameter else { continue };
            let begun = binding.parameters.contains_key(name);
            let pieces = binding.parameters.entry(name.clone()).or_default();
            if begun {
                pieces.push(Piece::Text("/".to_owned()));
            }
            let rest = &fixed[part.fixed.len()..];
            match percent_decode_str(rest).decode_utf8() {
                Ok(text) if !text.is_empty() => pieces.push(Piece::Text(text.into_owned())),
                Ok(_) => {}
                Err(_) if piece.is_some() => self.is_whole = false,
                Err(_) => binding.is_refused = true,
            }
            self.is_whole &= piece.is_none() || !ends_in_half_a_byte(rest);
            pieces.extend(piece.clone());
        }
        self.parts.push(Part { fixed: fixed.to_owned(), variable });
    }

    /// The path with these values, spelled so; nothing for a part stands for its example.
    pub(in crate::plan) fn path(&self, value: impl Fn(usize) -> Option<String>, spelling: Spelling) -> String {
        let mut path = String::new();
        for (at, part) in self.parts.iter().enumerate() {
            path.push('/');
            path.push_str(&part.fixed);
            if let Some((example, _)) = &part.variable {
                match value(at) {
                    Some(text) => spelling.write(&text, &mut path),
                    None => path.push_str(example),
                }
            }
        }
        path
    }

    /// The shape of one pattern as one of two, where the other has none; `at` is its place.
    pub(in crate::plan) fn alone(mut self, at: usize) -> Self {
        self.bindings.insert(1 - at, Binding::default());
        self
    }

    /// A path of this form that meets no pattern with more fixed parts than the form has.
    pub(in crate::plan) fn representative(&self) -> String {
        self.path(|_| None, Spelling::Plain)
    }
}

fn ends_in_half_a_byte(text: &str) -> bool {
    let mut end = text.bytes().rev();
    match (end.next(), end.next()) {
        (Some(b'%'), _) => true,
        (Some(last), Some(b'%')) => last.is_ascii_hexdigit(),
        _ => false,
    }
}

/// The parts of a pattern with what takes the rest taking so many that there are `length` of them.
fn spread(parts: &[PatternPart], length: usize) -> Vec<PatternPart> {
    let mut spread = parts.to_vec();
    if let Some(last) = parts.last() {
        let more = PatternPart { fixed: String::new(), ..last.clone() };
        spread.extend(std::iter::repeat_n(more, length - parts.len()));
    }
    spread
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
            ("/a/{x}/", "/a//", &["/a//"]),
            ("/a/{x}/c", "/a//c", &["/a//c"]),
            ("/a/con{x}", "/a/contact", &["/a/contact"]),
            ("/a/con{x}", "/a/con", &[]),
            ("/a/con{x}/b", "/a/con/b", &["/a/con/b"]),
            ("/a/con{x}", "/a/c{y}", &["/a/conany-1"]),
            ("/a/{*rest}", "/a/b/", &["/a/b/"]),
            ("/a/{*rest}", "/a/{x}/c", &["/a/any-1/c"]),
            ("/a/{*rest}", "/{*all}", &["/a/any-1", "/a/any-1/any-2", "/a/any-1/"]),
            ("/{{a}}/{x}", "/{{a}}/{y}", &["/{a}/any-1"]),
            ("/a/b%20c", "/a/{y}", &["/a/b%20c"]),
        ] {
            let patterns = Patterns::of([one, other]);
            let mut seen: Vec<_> = patterns.meetings(one, other).iter().map(Shape::representative).collect();
            seen.sort_by_key(|path| (path.matches('/').count(), path.ends_with('/')));
            let mut paths = paths.to_vec();
            paths.sort_by_key(|path| (path.matches('/').count(), path.ends_with('/')));
            assert_eq!(
                seen,
                paths.into_iter().filter(|path| path.matches('/').count() <= 3).collect::<Vec<_>>(),
                "{one} and {other}"
            );
        }
        let shape = &Patterns::of(["/a/{*rest}", "/a/{x}/c"]).meetings("/a/{*rest}", "/a/{x}/c")[0];
        let (rest, x) = (&shape.bindings[0].parameters["rest"], &shape.bindings[1].parameters["x"]);
        let variable = Piece::Variable { number: 1, may_be_empty: true };
        assert_eq!(x.as_slice(), std::slice::from_ref(&variable));
        assert_eq!(*rest, [variable, Piece::Text("/".to_owned()), Piece::Text("c".to_owned())]);
        let shape = &Patterns::of(["/a/b%20c", "/a/{y}"]).meetings("/a/b%20c", "/a/{y}")[0];
        assert_eq!(shape.bindings[1].parameters["y"], [Piece::Text("b c".to_owned())]);
        assert!(!Patterns::of(["/a/%{x}", "/a/{y}"]).meetings("/a/%{x}", "/a/{y}")[0].is_whole);
        assert!(Patterns::of(["/a/%FF", "/a/{y}"]).meetings("/a/%FF", "/a/{y}")[0].bindings[1].is_refused);
    }

    #[test]
    fn values_are_written_so_that_they_arrive() {
        let shape = &Patterns::of(["/a/{x}"]).shapes("/a/{x}")[0];
        for (value, spelling, path) in [
            ("obs-0017", Spelling::Plain, "/a/obs-0017"),
            ("a/b é", Spelling::Plain, "/a/a%2Fb%20%C3%A9"),
            ("..", Spelling::Plain, "/a/%2E%2E"),
            ("b", Spelling::Encoded, "/a/%62"),
            ("éa", Spelling::BeginsEncoded, "/a/%C3%A9a"),
            ("ab", Spelling::EndsEncoded, "/a/a%62"),
        ] {
            assert_eq!(shape.path(|_| Some(value.to_owned()), spelling), path);
        }
    }
}
