//! The parts of a plan before they are checked.

use super::mistake::Span;
use crate::rule::Rule;

/// Collects the parts of a plan; [`build`](Self::build) checks them all.
#[derive(Clone, Debug, Default)]
#[must_use]
pub struct PlanBuilder {
    pub(super) roles: Vec<(Spanned, Vec<Spanned>)>,
    /// Declared scopes; as long as none is declared, any scope may be named.
    pub(super) scopes: Vec<Spanned>,
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

impl From<&str> for Spanned {
    fn from(name: &str) -> Self {
        Self { name: name.to_owned(), span: None }
    }
}
