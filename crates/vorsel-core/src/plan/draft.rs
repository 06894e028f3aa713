//! The parts of a plan before they are checked.

use std::ops::Range;
use std::sync::Arc;

use super::exact::Budget;
use super::mistake::{Place, Places, Span};
use crate::rule::Rule;

/// Collects the parts of a plan; [`build`](Self::build) checks them all.
///
/// ```
/// use vorsel_core::AccessPlan;
/// use vorsel_core::rule::{path, role, subject};
///
/// let plan = AccessPlan::builder()
///     .role("observer", &[])
///     .policy("own", path("observer").equals(subject()))
///     .open("GET", "/health")
///     .need("GET", "/observers/{observer}/logs", role("observer").and("policy own".parse()?))
///     .build()?;
/// assert_eq!(plan.routes().len(), 2);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default)]
#[must_use]
pub struct PlanBuilder {
    pub(super) roles: Vec<(Spanned, Vec<Spanned>)>,
    /// Declared scopes; as long as none is declared, any scope may be named.
    pub(super) scopes: Vec<Spanned>,
    /// Declared predicates of the app's own; as long as none is declared, any may be named.
    pub(super) predicates: Vec<Spanned>,
    pub(super) all_subjects: bool,
    pub(super) budget: Budget,
    pub(super) policies: Vec<(Spanned, DraftRule)>,
    /// Policies whose rule could not be read: a mistake of their own, so naming them is not another.
    pub(super) unread_policies: Vec<String>,
    pub(super) routes: Vec<DraftRoute>,
    pub(super) mistakes: Vec<(Span, String)>,
    pub(super) sources: Sources,
}

/// The texts that a plan was read from. Spans count through all of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Sources(Vec<Source>);

#[derive(Clone, Debug)]
struct Source {
    file: Arc<str>,
    text: String,
    places: Places,
    start: usize,
}

impl Sources {
    /// Where the spans of the next text begin.
    pub(super) fn end(&self) -> usize {
        self.0.last().map_or(0, |last| last.start + last.text.len() + 1)
    }

    pub(super) fn add(&mut self, file: &str, text: &str) {
        let (places, start) = (Places::of(text), self.end());
        self.0.push(Source { file: file.into(), text: text.to_owned(), places, start });
    }

    fn of(&self, at: usize) -> Option<&Source> {
        self.0.iter().rev().find(|source| source.start <= at)
    }

    /// The text of a span.
    fn text(&self, span: Range<usize>) -> Option<&str> {
        let source = self.of(span.start)?;
        source.text.get(span.start - source.start..span.end - source.start)
    }

    /// The file and the place in it.
    pub(super) fn place(&self, at: usize) -> Option<(Arc<str>, Place)> {
        let source = self.of(at)?;
        Some((source.file.clone(), source.places.place(&source.text, at - source.start)))
    }
}

impl PlanBuilder {
    /// Adds what was read from a text of its own, whose spans begin at `start` of all texts.
    pub(super) fn append(&mut self, mut read: Self, start: usize) {
        let moved = |span: &mut Span| {
            if let Some(span) = span {
                *span = span.start + start..span.end + start;
            }
        };
        let moved_all = |names: &mut Vec<Spanned>| names.iter_mut().for_each(|name| moved(&mut name.span));
        for (role, includes) in &mut read.roles {
            moved(&mut role.span);
            moved_all(includes);
        }
        [&mut read.scopes, &mut read.predicates].into_iter().for_each(moved_all);
        for (policy, rule) in &mut read.policies {
            moved(&mut policy.span);
            moved(&mut rule.span);
        }
        for route in &mut read.routes {
            let spans = [&mut route.method.span, &mut route.path.span].into_iter();
            spans.chain(route.need.as_mut().map(|need| &mut need.span)).for_each(moved);
        }
        read.mistakes.iter_mut().for_each(|(span, _)| moved(span));
        self.roles.append(&mut read.roles);
        self.scopes.append(&mut read.scopes);
        self.predicates.append(&mut read.predicates);
        self.policies.append(&mut read.policies);
        self.unread_policies.append(&mut read.unread_policies);
        self.routes.append(&mut read.routes);
        self.mistakes.append(&mut read.mistakes);
        self.all_subjects |= read.all_subjects;
    }
}

/// A name and where it stands.
#[derive(Clone, Debug)]
pub(super) struct Spanned {
    pub(super) name: String,
    pub(super) span: Span,
}

/// A rule and where it stands.
#[derive(Clone, Debug)]
pub(super) struct DraftRule {
    pub(super) rule: Rule,
    pub(super) span: Span,
}

#[derive(Clone, Debug)]
pub(super) struct DraftRoute {
    pub(super) method: Spanned,
    pub(super) path: Spanned,
    /// The rule, or nothing for an open route.
    pub(super) need: Option<DraftRule>,
    /// Whether it is for what a router's fallback gets.
    pub(super) is_fallback: bool,
}

/// The entries for the fallback of a router that lies under `prefix`.
pub(super) fn fallback_entries(method: &Spanned, prefix: &Spanned, need: Option<&DraftRule>) -> [DraftRoute; 2] {
    let bare = prefix.name.trim_end_matches('/');
    let entry = |path: String| DraftRoute {
        method: method.clone(),
        path: Spanned { name: path, span: prefix.span.clone() },
        need: need.cloned(),
        is_fallback: true,
    };
    let whole = if bare.is_empty() { "/" } else { bare };
    [entry(whole.to_owned()), entry(format!("{bare}/{{*fallback}}"))]
}

impl PlanBuilder {
    /// Where a name stands in a rule, or the rule's place if that cannot be told.
    pub(super) fn place_of(&self, name: &str, rule: &Span) -> Span {
        let narrower = rule.as_ref().and_then(|span| {
            let raw = self.sources.text(span.clone())?;
            let is_word = |byte: u8| byte.is_ascii_alphanumeric() || b"-_:".contains(&byte);
            let stands_alone = |at: usize| {
                let (before, after) = (raw[..at].bytes().last(), raw[at + name.len()..].bytes().next());
                !before.is_some_and(is_word) && !after.is_some_and(is_word)
            };
            let at = raw.match_indices(name).map(|(at, _)| at).find(|at| stands_alone(*at))?;
            Some(span.start + at..span.end)
        });
        narrower.or_else(|| rule.clone())
    }
}

impl From<&str> for Spanned {
    fn from(name: &str) -> Self {
        Self { name: name.to_owned(), span: None }
    }
}
