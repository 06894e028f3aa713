//! What changes between two plans: who gains which route and who loses it, each with an example.

use std::collections::BTreeSet;

use super::exact::{Answer, Holding, Model, Patterns, Purse, Shape};
use super::table::{Access, AccessPlan, Route};
use super::who::Who;
use super::witness::Witness;
use crate::rule::Formulas;

/// One route that somebody gains or loses.
///
/// ```
/// use vorsel_core::AccessPlan;
///
/// let before = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// let after = AccessPlan::builder().role("observer", &[]).open("GET", "/dome").build()?;
/// let changes = before.compare(&after);
/// assert_eq!((changes[0].method(), changes[0].path()), ("GET", "/dome"));
/// assert!(!changes[0].gains.is_empty() && changes[0].loses.is_empty() && changes[0].is_settled);
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct RouteChange {
    /// The entry of the plan before, if it had one for these requests.
    pub before: Option<Route>,
    /// The entry of the plan after, if it has one for these requests.
    pub after: Option<Route>,
    /// Who may reach it after and could not before.
    pub gains: Vec<Change>,
    /// Who could reach it before and may not after.
    pub loses: Vec<Change>,
    /// Whether that is all. If not, finding out takes more work than the plan's [`Budget`](crate::Budget) has, or hangs on
    /// how a percent sign that stands alone in a pattern joins with what is sent behind it; somebody besides may gain or
    /// lose the route.
    pub is_settled: bool,
}

/// Somebody who gains or loses a route.
///
/// ```
/// # use vorsel_core::AccessPlan;
/// # let before = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// # let after = AccessPlan::builder().role("observer", &[]).open("GET", "/dome").build()?;
/// let changes = before.compare(&after);
/// let gain = &changes[0].gains[0];
/// assert_eq!(format!("{}: {}", gain.who, gain.witness), "anyone: GET /dome by anyone");
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Change {
    /// Who.
    pub who: Who,
    /// An example: a request that the two plans answer differently.
    pub witness: Witness,
}

impl RouteChange {
    /// The route's method.
    #[must_use]
    pub fn method(&self) -> &str {
        self.entry().map_or("", Route::method)
    }

    /// The pattern of the route, that of the plan after if it has one.
    #[must_use]
    pub fn path(&self) -> &str {
        self.entry().map_or("", Route::path)
    }

    fn entry(&self) -> Option<&Route> {
        self.after.as_ref().or(self.before.as_ref())
    }
}

impl AccessPlan {
    /// Every route that somebody gains or loses when `after` takes the place of this plan, in the order of `after`, then
    /// of this plan, and every one for which that is not settled. Nothing comes back if, and only if, the two are found to
    /// let the same requests through.
    ///
    /// What the app's own predicates say, and how long ago a caller signed in, count as things that a caller may have or not.
    #[must_use]
    pub fn compare(&self, after: &Self) -> Vec<RouteChange> {
        let patterns = Patterns::of([self, after].iter().flat_map(|plan| plan.routes.iter().map(Route::path)));
        let alike = self.names == after.names && self.all_subjects == after.all_subjects;
        let plans = TwoPlans { before: self, after, patterns, alike, purse: self.budget.begin() };
        plans.pairs().into_iter().filter_map(|pair| plans.change(&pair)).collect()
    }
}

struct TwoPlans<'p> {
    before: &'p AccessPlan,
    after: &'p AccessPlan,
    patterns: Patterns,
    /// Whether roles and policies are the same in both.
    alike: bool,
    purse: Purse,
}

/// Requests of one method that meet one entry of each plan, or of one of them.
struct Pair<'p> {
    method: String,
    before: Option<&'p Route>,
    after: Option<&'p Route>,
    shapes: Vec<Shape>,
}

impl<'p> TwoPlans<'p> {
    fn pairs(&self) -> Vec<Pair<'p>> {
        let patterns = |plan: &'p AccessPlan| -> Vec<&'p str> {
            let mut seen = BTreeSet::new();
            plan.routes.iter().map(|route| route.path.as_str()).filter(|path| seen.insert(*path)).collect()
        };
        let (all_before, mut pairs) = (patterns(self.before), Vec::new());
        for after in patterns(self.after) {
            for before in all_before.iter().copied() {
                self.add(&mut pairs, Some(before), Some(after), self.patterns.meetings(before, after));
            }
            let alone = self.patterns.shapes(after).into_iter().map(|shape| shape.alone(1)).collect();
            self.add(&mut pairs, None, Some(after), alone);
        }
        for before in all_before {
            let alone = self.patterns.shapes(before).into_iter().map(|shape| shape.alone(0)).collect();
            self.add(&mut pairs, Some(before), None, alone);
        }
        pairs
    }

    /// Adds the requests of these shapes, as far as both plans meet them with these patterns.
    fn add(&self, pairs: &mut Vec<Pair<'p>>, before: Option<&str>, after: Option<&str>, mut shapes: Vec<Shape>) {
        shapes.retain(|shape| {
            let path = shape.representative();
            self.before.pattern_of(&path) == before && self.after.pattern_of(&path) == after
        });
        if shapes.is_empty() {
            return;
        }
        let mut methods: Vec<&str> = Vec::new();
        for (plan, pattern) in [(self.after, after), (self.before, before)] {
            for route in plan.routes.iter().filter(|route| Some(route.path.as_str()) == pattern) {
                if !methods.contains(&route.method.as_str()) {
                    methods.push(&route.method);
                }
            }
        }
        let path = shapes[0].representative();
        for method in methods {
            let (before, after) = (self.before.route_of(method, &path), self.after.route_of(method, &path));
            pairs.push(Pair { method: method.to_owned(), before, after, shapes: shapes.clone() });
        }
    }

    fn change(&self, pair: &Pair<'p>) -> Option<RouteChange> {
        let mut is_settled = true;
        let [gains, loses] = [true, false].map(|gains| self.who(pair, gains, &mut is_settled));
        if gains.is_empty() && loses.is_empty() && is_settled {
            return None;
        }
        Some(RouteChange { before: pair.before.cloned(), after: pair.after.cloned(), gains, loses, is_settled })
    }

    /// Who gains the requests, or loses them.
    fn who(&self, pair: &Pair<'p>, gains: bool, is_settled: &mut bool) -> Vec<Change> {
        let mut changes = Vec::new();
        let (from, to) = if gains { (0, 1) } else { (1, 0) };
        let is_open = |side: usize, shape: &Shape| {
            let open = pair.sides()[side].is_some_and(|route| route.access == Access::Open);
            open && !shape.bindings[side].is_refused
        };
        if let Some(shape) = pair.shapes.iter().find(|shape| is_open(to, shape) && !is_open(from, shape)) {
            let witness = Witness::anonymous(&pair.method, shape.representative());
            changes.push(Change { who: Who::Anyone, witness });
        }
        // Who does not differ with any roles does not differ with one.
        let Some(any) = self.example(pair, gains, Holding::Any, is_settled) else { return changes };
        let mut columns = self.after.columns();
        columns.extend(self.before.columns());
        let mut seen = BTreeSet::new();
        columns.retain(|who| seen.insert(who.clone()));
        let signed_in = changes.len();
        for who in columns {
            let witness = match &who {
                Who::SignedIn => self.example(pair, gains, Holding::Exactly(&[]), is_settled),
                Who::Role(role) => self.example(pair, gains, Holding::Exactly(&[role]), is_settled),
                _ => None,
            };
            changes.extend(witness.map(|witness| Change { who, witness }));
        }
        if changes.len() == signed_in {
            let roles = any.claims().get("roles").and_then(|roles| roles.as_array().cloned()).unwrap_or_default();
            let mut roles: Vec<_> = roles.iter().filter_map(|role| role.as_str().map(str::to_owned)).collect();
            // One role or none, where the budget was used up before the columns were gone through.
            let who = match roles.len() {
                0 => Who::SignedIn,
                1 => Who::Role(roles.remove(0)),
                _ => Who::Roles(roles),
            };
            changes.push(Change { who, witness: any });
        }
        changes
    }

    fn example(&self, pair: &Pair<'p>, gains: bool, holding: Holding<'_>, is_settled: &mut bool) -> Option<Witness> {
        let roles = if let Holding::Exactly(roles) = holding { roles } else { &[] };
        pair.shapes.iter().find_map(|shape| {
            let sides = pair.sides();
            let [refused_before, refused_after] = [0, 1].map(|side| shape.bindings[side].is_refused);
            // Nothing has to be searched where the two sides are written alike.
            let is_same = || sides[0].zip(sides[1]).is_some_and(|(before, after)| before.access == after.access);
            if self.alike && is_same() && shape.bindings[0] == shape.bindings[1] || refused_before && refused_after {
                return None;
            }
            let mut model = Model::new(&[self.before, self.after]);
            let plans = [self.before, self.after];
            let mut lets_in = |at: usize, lets_in: bool| match sides[at].map(|route| route.formula) {
                _ if shape.bindings[at].is_refused => Formulas::always(!lets_in),
                None => Formulas::always(!lets_in),
                Some(None) => Formulas::always(lets_in),
                Some(Some(rule)) => model.rule(plans[at], rule, lets_in, holding, Some(&shape.bindings[at])),
            };
            if lets_in(0, true) == lets_in(1, true) {
                *is_settled &= shape.is_whole;
                return None;
            }
            let differ = [lets_in(0, !gains), lets_in(1, gains)];
            let differ = model.all(differ);
            let met = |path: &str| [self.before.pattern_of(path), self.after.pattern_of(path)];
            let meant = met(&shape.representative());
            let witness = match model.find(differ, &self.purse) {
                Answer::Found(found) => {
                    Some(Witness::of(&pair.method, shape, &found, roles, |path| met(path) == meant))
                }
                Answer::Nobody => None,
                Answer::Unsettled => Some(None),
            };
            *is_settled &= shape.is_whole && witness != Some(None);
            witness.flatten()
        })
    }
}

impl Pair<'_> {
    /// The entries before and after.
    const fn sides(&self) -> [Option<&Route>; 2] {
        [self.before, self.after]
    }
}
