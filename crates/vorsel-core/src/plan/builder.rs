//! Putting a plan together, from Rust, from text, or from both.

use super::compile::{Compiled, compile};
use super::draft::{DraftRoute, DraftRule, PlanBuilder, Sources, Spanned, fallback_entries};
use super::exact::Budget;
use super::mistake::{Mistake, PlanError, Span};
use super::table::AccessPlan;
use crate::rule::{Rule, RuleError};

impl AccessPlan {
    /// A plan written in Rust.
    pub fn builder() -> PlanBuilder {
        PlanBuilder::default()
    }
}

impl PlanBuilder {
    /// Declares a role and the roles it includes; inclusion carries on: a director who is an operator is an observer
    /// too, if an operator is one.
    pub fn role(mut self, name: &str, includes: &[&str]) -> Self {
        self.roles.push((name.into(), includes.iter().map(|name| (*name).into()).collect()));
        self
    }

    /// Declares the scopes that rules may name. Without any declaration every scope may be named.
    pub fn scopes(mut self, names: &[&str]) -> Self {
        self.scopes.extend(names.iter().map(|name| Spanned::from(*name)));
        self
    }

    /// Declares the app's own predicates that rules may name. Without any declaration every predicate may be named; a guard
    /// insists in either case that each one named has been registered with it.
    pub fn predicates(mut self, names: &[&str]) -> Self {
        self.predicates.extend(names.iter().map(|name| Spanned::from(*name)));
        self
    }

    /// Has `sub` mean the subject of any token in rules. Without this it means our own people only: the subjects of the
    /// guard's own issuer that are not a client's own name ([RFC 9068 section 5](https://www.rfc-editor.org/rfc/rfc9068#section-5)).
    /// A client or a stranger who has the name of one of our people is that person then.
    pub const fn danger_all_subjects(mut self) -> Self {
        self.all_subjects = true;
        self
    }

    /// How much work the questions about the plan may take: those of its load, its table, and a comparison with it.
    pub const fn budget(mut self, budget: Budget) -> Self {
        self.budget = budget;
        self
    }

    /// Names a rule for use on several routes. The rule is a [`Rule`] or its text.
    pub fn policy(mut self, name: &str, rule: impl TryInto<Rule, Error: Into<RuleError>>) -> Self {
        if let Some(rule) = self.rule(format_args!("policy {name:?}"), rule) {
            self.policies.push((name.into(), rule));
        } else {
            self.unread_policies.push(name.to_owned());
        }
        self
    }

    /// Leaves a route open: no caller is needed.
    pub fn open(mut self, method: &str, path: &str) -> Self {
        self.routes.push(DraftRoute { method: method.into(), path: path.into(), need: None, is_fallback: false });
        self
    }

    /// Leaves the fallback open of the router that lies under `prefix`, `/` for the outermost: the files of a page, say. A
    /// guard around an axum router lets nothing in by this entry but what that fallback gets; where a guard does not see what is
    /// routed, it is an entry for every path under `prefix` that no other entry has.
    ///
    /// ```
    /// let plan = vorsel_core::AccessPlan::builder().need("GET", "/dome", "signed-in").open_fallback("GET", "/").build()?;
    /// assert!(plan.route_of("GET", "/style.css").is_some_and(|entry| entry.is_fallback()));
    /// # Ok::<(), vorsel_core::PlanError>(())
    /// ```
    pub fn open_fallback(mut self, method: &str, prefix: &str) -> Self {
        self.routes.extend(fallback_entries(&method.into(), &prefix.into(), None));
        self
    }

    /// Guards the fallback of the router that lies under `prefix` with a rule, a [`Rule`] or its text.
    pub fn need_fallback(
        mut self,
        method: &str,
        prefix: &str,
        rule: impl TryInto<Rule, Error: Into<RuleError>>,
    ) -> Self {
        if let Some(rule) = self.rule(format_args!("{method} {prefix}, the fallback"), rule) {
            self.routes.extend(fallback_entries(&method.into(), &prefix.into(), Some(&rule)));
        }
        self
    }

    /// Guards a route with a rule, a [`Rule`] or its text.
    pub fn need(mut self, method: &str, path: &str, rule: impl TryInto<Rule, Error: Into<RuleError>>) -> Self {
        if let Some(rule) = self.rule(format_args!("{method} {path}"), rule) {
            let (method, path) = (method.into(), path.into());
            self.routes.push(DraftRoute { method, path, need: Some(rule), is_fallback: false });
        }
        self
    }

    fn rule(
        &mut self,
        whose: std::fmt::Arguments<'_>,
        rule: impl TryInto<Rule, Error: Into<RuleError>>,
    ) -> Option<DraftRule> {
        match rule.try_into().map_err(Into::into) {
            Ok(rule) => Some(DraftRule { rule, span: None }),
            Err(error) => {
                self.mistakes.push((None, format!("{whose}: in the rule at {}: {error}", error.span.start + 1)));
                None
            }
        }
    }

    /// Checks everything and builds the plan.
    ///
    /// # Errors
    /// Every mistake at once: unknown names, doubled or clashing routes, roles or policies that include themselves,
    /// rules that cannot be read, no route at all.
    pub fn build(self) -> Result<AccessPlan, PlanError> {
        let Compiled { mut plan, mut mistakes, warnings } = compile(&self);
        mistakes.extend(self.mistakes);
        if mistakes.is_empty() {
            plan.warnings = located(warnings, &self.sources);
            return Ok(plan);
        }
        Err(PlanError { mistakes: located(mistakes, &self.sources) })
    }
}

/// In the order of the text, each once: a route with several methods makes the same mistake several times.
fn located(mut messages: Vec<(Span, String)>, sources: &Sources) -> Vec<Mistake> {
    messages.sort_by_key(|(span, _)| span.as_ref().map_or(0, |span| span.start));
    messages.dedup();
    let located = |(span, message): (Span, String)| {
        let (file, place) = span.and_then(|span| sources.place(span.start)).unzip();
        Mistake { file, place, message }
    };
    messages.into_iter().map(located).collect()
}
