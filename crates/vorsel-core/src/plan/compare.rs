//! What changes between two plans: who gains which route and who loses it, each with an example.

use std::collections::BTreeSet;

use super::exact::{Holding, Model, Shape, meetings, shapes};
use super::table::{Access, AccessPlan, Route};
use super::who::Who;
use super::witness::Witness;
use crate::rule::Formulas;

/// One route that somebody gains or loses.
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
}

/// Somebody who gains or loses a route.
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
    /// of this plan. Nothing comes back if, and only if, the two let the same requests through.
    ///
    /// What the app's own predicates say, and how long ago a caller signed in, count as things that a caller may have or not.
    #[must_use]
    pub fn compare(&self, after: &Self) -> Vec<RouteChange> {
        let plans = TwoPlans { before: self, after };
        plans.pairs().into_iter().filter_map(|pair| plans.change(&pair)).collect()
    }
}

struct TwoPlans<'p> {
    before: &'p AccessPlan,
    after: &'p AccessPlan,
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
        let deepest = self.before.deepest.max(self.after.deepest);
        let (all_before, mut pairs) = (patterns(self.before), Vec::new());
        for after in patterns(self.after) {
            for before in all_before.iter().copied() {
                self.add(&mut pairs, Some(before), Some(after), meetings(before, after, deepest));
            }
            let alone = shapes(after, deepest).into_iter().map(Shape::second).collect();
            self.add(&mut pairs, None, Some(after), alone);
        }
        for before in all_before {
            self.add(&mut pairs, Some(before), None, shapes(before, deepest));
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
        let (gains, loses) = (self.who(pair, true), self.who(pair, false));
        if gains.is_empty() && loses.is_empty() {
            return None;
        }
        Some(RouteChange { before: pair.before.cloned(), after: pair.after.cloned(), gains, loses })
    }

    /// Who gains the requests, or loses them.
    fn who(&self, pair: &Pair<'p>, gains: bool) -> Vec<Change> {
        let is_open = |route: Option<&Route>| route.is_some_and(|route| route.access == Access::Open);
        let mut changes = Vec::new();
        let (from, to) = if gains { (pair.before, pair.after) } else { (pair.after, pair.before) };
        if is_open(to) && !is_open(from) {
            let witness = Witness::anonymous(&pair.method, pair.shapes[0].representative());
            changes.push(Change { who: Who::Anyone, witness });
        }
        // Who does not differ with any roles does not differ with one.
        let Some(any) = self.example(pair, gains, Holding::Any) else { return changes };
        let mut columns = self.after.columns();
        columns.extend(self.before.columns());
        let mut seen = BTreeSet::new();
        columns.retain(|who| seen.insert(who.clone()));
        let signed_in = changes.len();
        for who in columns {
            let witness = match &who {
                Who::SignedIn => self.example(pair, gains, Holding::Exactly(&[])),
                Who::Role(role) => self.example(pair, gains, Holding::Exactly(&[role])),
                _ => None,
            };
            changes.extend(witness.map(|witness| Change { who, witness }));
        }
        if changes.len() == signed_in {
            let roles = any.claims().get("roles").and_then(|roles| roles.as_array().cloned()).unwrap_or_default();
            let roles = roles.iter().filter_map(|role| role.as_str().map(str::to_owned)).collect();
            changes.push(Change { who: Who::Roles(roles), witness: any });
        }
        changes
    }

    fn example(&self, pair: &Pair<'p>, gains: bool, holding: Holding<'_>) -> Option<Witness> {
        let roles = if let Holding::Exactly(roles) = holding { roles } else { &[] };
        pair.shapes.iter().find_map(|shape| {
            let mut model = Model::new(&[self.before, self.after]);
            let sides = [(self.before, pair.before), (self.after, pair.after)];
            let mut lets_in = |at: usize, lets_in: bool| match sides[at].1.map(|route| route.formula) {
                None => Formulas::always(!lets_in),
                Some(None) => Formulas::always(lets_in),
                Some(Some(rule)) => model.rule(sides[at].0, rule, lets_in, holding, Some(&shape.bindings[at])),
            };
            // The same rule on both sides needs no search.
            if lets_in(0, true) == lets_in(1, true) {
                return None;
            }
            let differ = [lets_in(0, !gains), lets_in(1, gains)];
            let differ = model.all(differ);
            let found = model.find(differ)?;
            let met = |path: &str| [self.before.pattern_of(path), self.after.pattern_of(path)];
            let meant = met(&shape.representative());
            Some(Witness::of(&pair.method, shape, &found, roles, |path| met(path) == meant))
        })
    }
}
