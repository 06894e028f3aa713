//! The parts of a plan before they are checked.

use super::exact::Budget;
use super::mistake::Span;
use crate::rule::Rule;

/// Collects the parts of a plan; [`build`](Self::build) checks them all.
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
    /// The text that spans point into, and its name.
    pub(super) source: Option<(String, String)>,
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
}

impl PlanBuilder {
    /// Where a name stands in a rule, or the rule's place if that cannot be told.
    pub(super) fn place_of(&self, name: &str, rule: &Span) -> Span {
        let narrower = rule.as_ref().zip(self.source.as_ref()).and_then(|(span, (_, text))| {
            let raw = text.get(span.clone())?;
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
