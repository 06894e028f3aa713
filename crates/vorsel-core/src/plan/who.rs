//! Who may reach a route: for each role yes, no, or on which condition; exactly, not by trying callers out.

use std::fmt;

use super::exact::{Answer, Holding, Model, Purse, Shape};
use super::table::{Access, AccessPlan, Route};
use super::witness::Witness;
use crate::rule::{Formula, NormalForm, Rule};

/// Whom an answer about a plan is about.
///
/// ```
/// use vorsel_core::{AccessPlan, Who};
///
/// let plan = AccessPlan::builder().role("observer", &[]).open("GET", "/health").build()?;
/// assert_eq!(plan.columns(), [Who::Anyone, Who::SignedIn, Who::Role("observer".to_owned())]);
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Who {
    /// Anyone at all, without a credential.
    Anyone,
    /// A caller who is signed in and has no role.
    SignedIn,
    /// A caller with this role and no other but those that it includes.
    Role(String),
    /// A caller with several roles at once, of which none is enough.
    Roles(Vec<String>),
}

/// Whether somebody may reach a route.
///
/// ```
/// use vorsel_core::{AccessPlan, Reach};
///
/// let plan = AccessPlan::builder().need("GET", "/dome", "signed-in").build()?;
/// assert_eq!(plan.who("GET", "/dome").expect("a route").reach, [Reach::No, Reach::Yes], "anyone; who is signed in");
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Reach {
    /// Always.
    Yes,
    /// Never.
    No,
    /// If this holds besides.
    If(Rule),
    /// Finding out takes more work than the plan's [`Budget`](crate::Budget) has.
    Unsettled,
}

/// Who may reach one route.
///
/// ```
/// # use vorsel_core::{AccessPlan, Reach};
/// let plan = AccessPlan::builder().need("GET", "/observers/{observer}", "path.observer == sub").build()?;
/// let row = plan.who("GET", "/observers/obs-0017").expect("a route");
/// assert_eq!(row.route.path(), "/observers/{observer}");
/// assert!(matches!(&row.reach[1], Reach::If(rule) if rule.to_string() == "path.observer == sub"));
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct AccessRow {
    /// The route.
    pub route: Route,
    /// For anyone, for a caller without a role, and for each role in the order of [`AccessTable::columns`].
    pub reach: Vec<Reach>,
    /// A caller with several roles who gets in where no single role does.
    pub together: Option<Witness>,
}

/// The table of roles and routes.
///
/// ```
/// use vorsel_core::AccessPlan;
///
/// let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// let table = plan.table();
/// assert_eq!((table.rows.len(), table.columns.len(), table.is_settled()), (1, 3, true));
/// println!("{table}");
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct AccessTable {
    /// Whom the columns are about.
    pub columns: Vec<Who>,
    /// The routes, in the order of the plan.
    pub rows: Vec<AccessRow>,
}

impl AccessPlan {
    /// Who may reach which route.
    #[must_use]
    pub fn table(&self) -> AccessTable {
        let (columns, mut form, purse) = (self.columns(), self.form.clone(), self.budget.begin());
        let rows = self.routes.iter().map(|route| self.row(route, &columns, &mut form, &purse)).collect();
        AccessTable { columns, rows }
    }

    /// Who may reach the route that a request with this method and path meets; nothing if there is none. The columns are
    /// those of the [`table`](Self::table).
    #[must_use]
    pub fn who(&self, method: &str, path: &str) -> Option<AccessRow> {
        let purse = self.budget.begin();
        self.route_of(method, path).map(|route| self.row(route, &self.columns(), &mut self.form.clone(), &purse))
    }

    /// Anyone, a caller without a role, and each role in the order declared.
    #[must_use]
    pub fn columns(&self) -> Vec<Who> {
        let roles = self.names.order.iter().cloned().map(Who::Role);
        [Who::Anyone, Who::SignedIn].into_iter().chain(roles).collect()
    }

    /// `form` is a copy of the plan's, which takes up what is left of rules.
    fn row(&self, route: &Route, columns: &[Who], form: &mut NormalForm, purse: &Purse) -> AccessRow {
        let (Access::Need(rule), Some(formula)) = (&route.access, route.formula) else {
            return AccessRow { route: route.clone(), reach: vec![Reach::Yes; columns.len()], together: None };
        };
        let shapes = self.shapes_of(&route.path);
        let reach: Vec<_> = columns
            .iter()
            .map(|who| {
                let roles: Vec<&str> = match who {
                    Who::Anyone => return Reach::No,
                    Who::SignedIn => Vec::new(),
                    Who::Role(role) => vec![role],
                    Who::Roles(roles) => roles.iter().map(String::as_str).collect(),
                };
                let left = form.for_roles(formula, &roles);
                match form.formulas.constant(left) {
                    Some(holds) => {
                        if holds {
                            Reach::Yes
                        } else {
                            Reach::No
                        }
                    }
                    None => {
                        let left = || form.written(left).unwrap_or_else(|| rule.clone());
                        self.reach(formula, &roles, &shapes, left, purse)
                    }
                }
            })
            .collect();
        let is_closed = reach.iter().all(|reach| *reach == Reach::No);
        let together = if is_closed { self.together(route, formula, &shapes, purse) } else { None };
        AccessRow { route: route.clone(), reach, together }
    }

    /// Whether a caller with exactly these roles fulfils the rule; if that hangs on something, `left` says on what.
    fn reach(
        &self,
        rule: Formula,
        roles: &[&str],
        shapes: &[Shape],
        left: impl FnOnce() -> Rule,
        purse: &Purse,
    ) -> Reach {
        let happens = |holds: bool| {
            some_or_unsettled(shapes.iter().map(|shape| {
                let mut model = Model::new(&[self]);
                let formula = model.rule(self, rule, holds, Holding::Exactly(roles), Some(&shape.bindings[0]));
                model.find(formula, purse).is_somebody()
            }))
        };
        match (happens(true), happens(false)) {
            (Some(true), Some(true)) => Reach::If(left()),
            (Some(true), Some(false)) => Reach::Yes,
            (Some(false), _) => Reach::No,
            _ => Reach::Unsettled,
        }
    }

    fn together(&self, route: &Route, rule: Formula, shapes: &[Shape], purse: &Purse) -> Option<Witness> {
        shapes.iter().find_map(|shape| {
            let mut model = Model::new(&[self]);
            let formula = model.rule(self, rule, true, Holding::Any, Some(&shape.bindings[0]));
            let Answer::Found(found) = model.find(formula, purse) else { return None };
            let fits = |path: &str| self.pattern_of(path) == Some(&route.path);
            Witness::of(&route.method, shape, &found, &[], fits)
        })
    }

    /// The forms of the paths that a pattern of the plan takes and no other takes from it.
    fn shapes_of(&self, pattern: &str) -> Vec<Shape> {
        let mut shapes = self.patterns.shapes(pattern);
        shapes.retain(|shape| self.pattern_of(&shape.representative()) == Some(pattern));
        shapes
    }

    /// Whether any path at all goes by a pattern of the plan, and can be read.
    pub(super) fn takes_any(&self, pattern: &str) -> bool {
        self.shapes_of(pattern).iter().any(|shape| !shape.bindings[0].is_refused)
    }

    /// Whether any signed-in caller at all fulfils a rule; nothing if that is not settled. Without a path, its parameters
    /// may be anything.
    pub(super) fn can_hold(&self, rule: Formula, path: Option<&str>, purse: &Purse) -> Option<bool> {
        self.some_caller(rule, true, path, || Model::new(&[self]), purse)
    }

    /// Whether a caller whose roles the plan knows fails to fulfil a rule; nothing if that is not settled.
    pub(super) fn can_fail(&self, rule: Formula, path: Option<&str>, purse: &Purse) -> Option<bool> {
        self.some_caller(rule, false, path, || Model::with_declared_roles(&[self]), purse)
    }

    fn some_caller(
        &self,
        rule: Formula,
        holds: bool,
        path: Option<&str>,
        model: impl Fn() -> Model,
        purse: &Purse,
    ) -> Option<bool> {
        let there_is = |binding| {
            let mut model = model();
            let formula = model.rule(self, rule, holds, Holding::Any, binding);
            model.find(formula, purse).is_somebody()
        };
        match path {
            None => there_is(None),
            Some(path) => {
                some_or_unsettled(self.shapes_of(path).iter().map(|shape| there_is(Some(&shape.bindings[0]))))
            }
        }
    }
}

/// Whether one of them is true; nothing if none is and some are not settled.
fn some_or_unsettled(answers: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut all = Some(false);
    for answer in answers {
        match answer {
            Some(true) => return answer,
            Some(false) => {}
            None => all = None,
        }
    }
    all
}

impl fmt::Display for Who {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Anyone => f.write_str("anyone"),
            Self::SignedIn => f.write_str("no role"),
            Self::Role(role) => f.write_str(role),
            Self::Roles(roles) => f.write_str(&roles.join(" + ")),
        }
    }
}

impl AccessTable {
    /// The conditions of the table in the order in which they first occur, each once. The number of a condition, counted
    /// from 1, stands for it in the text.
    #[must_use]
    pub fn conditions(&self) -> Vec<&Rule> {
        let mut conditions: Vec<&Rule> = Vec::new();
        for reach in self.rows.iter().flat_map(|row| &row.reach) {
            if let Reach::If(rule) = reach
                && !conditions.contains(&rule)
            {
                conditions.push(rule);
            }
        }
        conditions
    }

    /// Whether every cell is settled.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        !self.rows.iter().any(|row| row.reach.contains(&Reach::Unsettled))
    }
}
