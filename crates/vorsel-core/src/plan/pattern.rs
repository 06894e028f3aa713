//! Path patterns, read in one place: by the plan, by the questions about it, and by whoever compares it with an app's
//! routes. Which patterns there are, and which of two is met first, is `matchit`'s to say, which axum routes with too.

use std::fmt;

/// A path pattern, part by part: `/people/{person}/notes/{*rest}`. `{{` and `}}` stand for braces.
///
/// ```
/// use vorsel_core::PathPattern;
///
/// let pattern = PathPattern::read("/people/{person}/{{notes}}/{*rest}");
/// assert_eq!(pattern.parameters().collect::<Vec<_>>(), ["person", "rest"]);
/// assert!(pattern.same_form(&PathPattern::read("/people/{who}/{{notes}}/{*more}")));
/// assert_eq!(pattern.example(), "/people/%7Fany/{notes}/%7Fany");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PathPattern {
    parts: Vec<PatternPart>,
}

/// What stands between two slashes: a fixed text, or the fixed beginning of one and a parameter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PatternPart {
    pub(super) fixed: String,
    pub(super) parameter: Option<String>,
    /// Whether the parameter takes the rest of the path.
    pub(super) takes_rest: bool,
}

impl PathPattern {
    /// Reads a pattern. What the router would refuse is read as far as it goes; a plan or an app with it does not start.
    #[must_use]
    pub fn read(pattern: &str) -> Self {
        Self { parts: pattern.strip_prefix('/').unwrap_or(pattern).split('/').map(PatternPart::read).collect() }
    }

    /// The names of its parameters.
    pub fn parameters(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|part| part.parameter.as_deref())
    }

    /// A path that meets the pattern, with a text in each parameter that no other pattern is likely to fix.
    #[must_use]
    pub fn example(&self) -> String {
        self.written(|_| "%7Fany".to_owned())
    }

    /// Whether two patterns differ in the names of their parameters only.
    #[must_use]
    pub fn same_form(&self, other: &Self) -> bool {
        let form = |pattern: &Self| pattern.written(|part| if part.takes_rest { "{*}" } else { "{}" }.to_owned());
        form(self) == form(other)
    }

    pub(super) fn parts(&self) -> &[PatternPart] {
        &self.parts
    }

    fn written(&self, parameter: impl Fn(&PatternPart) -> String) -> String {
        let end = |part: &PatternPart| part.parameter.as_ref().map(|_| parameter(part)).unwrap_or_default();
        self.parts.iter().map(|part| format!("/{}{}", part.fixed, end(part))).collect()
    }
}

impl PatternPart {
    fn read(text: &str) -> Self {
        let (mut fixed, mut characters) = (String::new(), text.chars().peekable());
        while let Some(character) = characters.next() {
            match (character, characters.peek()) {
                ('{', Some('{')) | ('}', Some('}')) => drop(characters.next()),
                ('{', _) => {
                    let name = characters.collect::<String>().replace("{{", "{").replace("}}", "}");
                    let name = name.strip_suffix('}').unwrap_or(&name);
                    let (name, takes_rest) = name.strip_prefix('*').map_or((name, false), |name| (name, true));
                    return Self { fixed, parameter: Some(name.to_owned()), takes_rest };
                }
                _ => {}
            }
            fixed.push(character);
        }
        Self { fixed, parameter: None, takes_rest: false }
    }
}

impl fmt::Display for PathPattern {
    /// As it is written in a plan.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plain = |text: &str| text.replace('{', "{{").replace('}', "}}");
        self.parts.iter().try_for_each(|part| {
            write!(f, "/{}", plain(&part.fixed))?;
            let star = if part.takes_rest { "*" } else { "" };
            part.parameter.iter().try_for_each(|name| write!(f, "{{{star}{}}}", plain(name)))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_are_read_as_the_router_reads_them() {
        for (pattern, parameters, path) in [
            ("/", &[][..], "/"),
            ("/health", &[], "/health"),
            ("/a/", &[], "/a/"),
            ("/a/{x}", &["x"], "/a/%7Fany"),
            ("/a/con{x}", &["x"], "/a/con%7Fany"),
            ("/a/{*rest}", &["rest"], "/a/%7Fany"),
            ("/{{x}}/{y}", &["y"], "/{x}/%7Fany"),
            ("/{{{x}", &["x"], "/{%7Fany"),
            ("/a}}b", &[], "/a}b"),
            ("/{x}/{x2}", &["x", "x2"], "/%7Fany/%7Fany"),
        ] {
            let read = PathPattern::read(pattern);
            assert_eq!(read.parameters().collect::<Vec<_>>(), parameters, "{pattern}");
            assert_eq!((read.example().as_str(), read.to_string().as_str()), (path, pattern));
            let mut router = matchit::Router::new();
            router.insert(pattern, ()).unwrap_or_else(|error| panic!("{pattern}: {error}"));
            let met: Vec<_> =
                router.at(path).expect("it meets its example").params.iter().map(|(name, _)| name.to_owned()).collect();
            assert_eq!(met, parameters, "{pattern}");
        }
        for broken in ["", "a", "/{", "/{x", "/{*", "/{}", "/x}", "//"] {
            let _ = PathPattern::read(broken).to_string();
        }
    }
}
