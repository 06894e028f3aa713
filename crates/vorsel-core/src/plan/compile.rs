//! Checking the parts of a plan and putting them into the form that decides.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use super::draft::{DraftRoute, DraftRule, PlanBuilder, Spanned};
use super::exact::Patterns;
use super::lint::{Linter, misfits};
use super::method::METHODS;
use super::mistake::Span;
use super::pattern::PathPattern;
use super::samples::Samples;
use super::table::{Access, AccessPlan, Names, Paths, Route};
use crate::finding::quoted;
use crate::rule::{NormalForm, Operand, Rule, is_name, policies_in};
use crate::spelling::did_you_mean;
use crate::token::is_scope;

/// The plan, every mistake in it, and what is worth a warning; with any mistake the plan is not to be used.
pub(super) struct Compiled {
    pub(super) plan: AccessPlan,
    pub(super) mistakes: Vec<(Span, String)>,
    pub(super) warnings: Vec<(Span, String)>,
}

pub(super) fn compile(draft: &PlanBuilder) -> Compiled {
    let mut compiler = Compiler { draft, mistakes: Vec::new(), unsound: BTreeSet::new(), sound: Vec::new() };
    let mut names = compiler.roles();
    compiler.declared("scope", draft.scopes.iter(), is_scope);
    compiler.declared("predicate", draft.predicates.iter(), is_name);
    names.policies = compiler.policies();
    names.scopes = draft.scopes.iter().map(|scope| scope.name.clone()).collect();
    let mut form = NormalForm::of(&names);
    let (routes, paths) = compiler.routes(&mut form, &names);
    let (all_subjects, budget) = (draft.all_subjects, draft.budget);
    let patterns = Arc::new(Patterns::of(routes.iter().map(Route::path)));
    static PLANS: AtomicU64 = AtomicU64::new(1);
    let number = PLANS.fetch_add(1, Ordering::Relaxed);
    let plan = AccessPlan { number, names, routes, form, all_subjects, paths, patterns, budget, warnings: Vec::new() };
    let Compiler { mut mistakes, unsound, sound, .. } = compiler;
    let roles = plan.names.roles.keys().cloned().collect();
    let samples = Samples::of(sound.iter().map(|(rule, _)| &rule.rule), roles);
    let purse = budget.begin();
    let (mistakes_of_rules, warnings) = (Vec::new(), Vec::new());
    let mut linter = Linter { draft, plan, unsound: &unsound, samples, purse, mistakes: mistakes_of_rules, warnings };
    for (rule, path) in sound {
        if linter.depth(rule) <= DEEPEST {
            linter.rule(rule, path);
        }
    }
    if mistakes.is_empty() {
        linter.open_over_guarded();
    }
    linter.foreign_parameters();
    linter.unused();
    linter.claim_types();
    mistakes.append(&mut linter.mistakes);
    Compiled { plan: linter.plan, mistakes, warnings: linter.warnings }
}

/// The router panics at a pattern with more, since it names them by letters.
const MOST_PARAMETERS: usize = 25;

/// How deep lists of rules may lie inside each other, policies resolved: each takes a piece of the stack at every request.
const DEEPEST: u32 = 1_000;

struct Compiler<'a> {
    draft: &'a PlanBuilder,
    mistakes: Vec<(Span, String)>,
    /// Policies with mistakes.
    unsound: BTreeSet<String>,
    /// Rules without mistakes, each with the path of its route.
    sound: Vec<(&'a DraftRule, Option<&'a str>)>,
}

impl<'a> Compiler<'a> {
    fn mistake(&mut self, span: &Span, message: String) {
        self.mistakes.push((span.clone(), message));
    }

    /// What may have been meant, as long as there are few mistakes: with a thousand of them, a thousand names to choose from
    /// would be a million comparisons.
    fn advice<'k>(&self, name: &str, known: impl Iterator<Item = &'k str>) -> String {
        const FEW: usize = 10;
        if self.mistakes.len() < FEW { did_you_mean(name, known) } else { String::new() }
    }

    /// Names that are well formed and declared once.
    fn declared<'n>(&mut self, what: &str, names: impl Iterator<Item = &'n Spanned>, fits: fn(&str) -> bool) {
        let mut seen = BTreeSet::new();
        for Spanned { name, span } in names {
            if !fits(name) {
                let right = match what {
                    "scope" => "visible ASCII without spaces, quotes and backslashes",
                    _ => "letters, digits, - and _, a letter first",
                };
                self.mistake(span, format!("{} is not a name for a {what}: {right}", quoted(name)));
            }
            if !seen.insert(name.as_str()) {
                self.mistake(span, format!("the {what} {name:?} is declared twice"));
            }
        }
    }

    fn roles(&mut self) -> Names {
        let declared = &self.draft.roles;
        self.declared("role", declared.iter().map(|(role, _)| role), is_name);
        let direct: BTreeMap<&str, &Vec<Spanned>> =
            declared.iter().map(|(role, includes)| (role.name.as_str(), includes)).collect();
        for Spanned { name, span } in declared.iter().flat_map(|(_, includes)| includes) {
            if !direct.contains_key(name.as_str()) {
                let advice = self.advice(name, direct.keys().copied());
                self.mistake(span, format!("unknown role {name:?}{advice}"));
            }
        }
        let mut names = Names::default();
        for (role, _) in declared {
            let reached = reach(&role.name, |name| {
                direct
                    .get(name)
                    .into_iter()
                    .flat_map(|includes| includes.iter().map(|role| role.name.as_str()))
                    .collect()
            });
            if reached.contains(&role.name) {
                self.mistake(&role.span, format!("the role {:?} includes itself", role.name));
            }
            let mut good_as = reached;
            good_as.insert(role.name.clone());
            if names.roles.insert(role.name.clone(), good_as).is_none() {
                names.order.push(role.name.clone());
            }
        }
        names
    }

    /// The policies that do not ask for themselves.
    fn policies(&mut self) -> BTreeMap<String, Rule> {
        let declared = &self.draft.policies;
        self.declared("policy", declared.iter().map(|(policy, _)| policy), is_name);
        let mut asked_for: HashMap<&str, Vec<&str>> = HashMap::new();
        for (policy, rule) in declared {
            asked_for.entry(&policy.name).or_insert_with(|| policies_in(&rule.rule));
        }
        let mut circular = BTreeSet::new();
        for (policy, rule) in declared {
            let sound = self.names_in(rule, None);
            let reached = reach(&policy.name, |name| asked_for.get(name).cloned().unwrap_or_default());
            if reached.contains(&policy.name) {
                self.mistake(&policy.span, format!("the policy {:?} asks for itself", policy.name));
                circular.insert(policy.name.as_str());
            }
            if sound && !reached.contains(&policy.name) {
                self.sound.push((rule, None));
            } else {
                self.unsound.insert(policy.name.clone());
            }
        }
        let others = declared.iter().filter(|(policy, _)| !circular.contains(policy.name.as_str()));
        others.map(|(policy, rule)| (policy.name.clone(), rule.rule.clone())).collect()
    }

    fn routes(&mut self, form: &mut NormalForm, names: &Names) -> (Vec<Route>, Paths) {
        let mut routes: Vec<Route> = Vec::new();
        let mut patterns: Vec<(&Spanned, bool, Vec<usize>)> = Vec::new();
        let (mut places, mut entries) = (HashMap::new(), HashSet::new());
        let taken = self.taken();
        for route in &self.draft.routes {
            let (method, path) = (&route.method.name, &route.path.name);
            if route.is_fallback
                && taken.at(&PathPattern::read(path).example()).is_ok()
                && !path.ends_with("/{*fallback}")
            {
                continue;
            }
            self.route(route);
            if !entries.insert((method, path, route.is_fallback)) {
                self.mistake(&route.method.span, format!("{method} {path} has two entries"));
            }
            let place = *places.entry((path, route.is_fallback)).or_insert_with(|| {
                patterns.push((&route.path, route.is_fallback, Vec::new()));
                patterns.len() - 1
            });
            patterns[place].2.push(routes.len());
            let access = route.need.as_ref().map_or(Access::Open, |need| Access::Need(need.rule.clone()));
            let formula = route.need.as_ref().map(|need| form.rule(&need.rule, true, names));
            if let Some(formula) = formula {
                self.depth(route, form.formulas.depth(formula));
                form.prepare(formula);
            }
            let (method, path, is_fallback) = (method.clone(), path.clone(), route.is_fallback);
            let asks_claims_alone = formula.is_some_and(|formula| form.asks_claims_alone(formula));
            routes.push(Route { method, path, access, formula, asks_claims_alone, is_fallback });
        }
        if routes.is_empty() && self.draft.mistakes.is_empty() {
            self.mistake(&None, "a plan without a route refuses every request; add [[routes]]".to_owned());
        }
        let mut paths = Paths::default();
        for (Spanned { name, span }, is_fallback, indices) in patterns {
            if PathPattern::read(name).parameters().count() > MOST_PARAMETERS {
                continue;
            }
            let paths = if is_fallback { &mut paths.fallbacks } else { &mut paths.routed };
            if let Err(error) = paths.insert(name, indices) {
                let problem = match error {
                    matchit::InsertError::Conflict { with } => format!("meets the same requests as {}", quoted(&with)),
                    other => format!("cannot be used: {other}"),
                };
                self.mistake(span, format!("the path {} {problem}", quoted(name)));
            }
        }
        (routes, paths)
    }

    /// What is routed, for the bare paths of routers with a fallback: one that is taken already has no use for an entry.
    fn taken(&self) -> matchit::Router<()> {
        let mut taken = matchit::Router::new();
        if self.draft.routes.iter().any(|route| route.is_fallback) {
            let few = |path: &&str| PathPattern::read(path).parameters().count() <= MOST_PARAMETERS;
            let routed = self.draft.routes.iter().filter(|route| !route.is_fallback);
            // Mistakes are found where the routes are.
            routed.map(|route| &*route.path.name).filter(few).for_each(|path| drop(taken.insert(path, ())));
        }
        taken
    }

    /// A rule that is nested too deep is not evaluated.
    fn depth(&mut self, route: &DraftRoute, depth: u32) {
        if depth > DEEPEST {
            let (method, path) = (&route.method.name, &route.path.name);
            let problem =
                format!("expected a rule nested at most {DEEPEST} deep, policies included, but found {depth}");
            self.mistake(&route.method.span, format!("{method} {path}: {problem}"));
        }
    }

    fn route(&mut self, route: &'a DraftRoute) {
        let (method, path) = (&route.method.name, &route.path.name);
        if !METHODS.contains(&method.as_str()) {
            let advice = did_you_mean(&method.to_uppercase(), METHODS.into_iter());
            self.mistake(&route.method.span, format!("unknown method {}{advice}", quoted(method)));
        }
        let parameters = PathPattern::read(path).parameters().count();
        if parameters > MOST_PARAMETERS {
            let problem = format!("expected a path with at most {MOST_PARAMETERS} parameters, but found {parameters}");
            self.mistake(&route.path.span, problem);
        }
        if !path.starts_with('/') {
            self.mistake(
                &route.path.span,
                format!("expected a path that begins with \"/\", but found {}", quoted(path)),
            );
        }
        if let Some(need) = &route.need
            && self.names_in(need, Some(path))
        {
            self.sound.push((need, Some(path)));
        }
    }

    /// Every role, scope, policy, predicate and path parameter that a rule names must exist, and be compared with its like.
    /// Says whether all is well.
    fn names_in(&mut self, rule: &DraftRule, path: Option<&str>) -> bool {
        let (draft, rule_span) = (self.draft, &rule.span);
        let roles = || draft.roles.iter().map(|(role, _)| role.name.as_str());
        let scopes = || draft.scopes.iter().map(|scope| scope.name.as_str());
        let predicates = || draft.predicates.iter().map(|predicate| predicate.name.as_str());
        let policies = || draft.policies.iter().map(|(policy, _)| policy.name.as_str());
        let mut wrong = Vec::new();
        let mut unknown = |what: &str, name: &str, advice: String| {
            wrong.push((draft.place_of(name, &rule.span), format!("unknown {what} {name:?}{advice}")));
        };
        let pattern = path.map(PathPattern::read);
        let in_path = |name: &str| {
            let advice = did_you_mean(name, pattern.iter().flat_map(PathPattern::parameters));
            format!(" in {}{advice}", quoted(path.unwrap_or_default()))
        };
        rule.rule.walk(&mut |rule| match rule {
            Rule::Role(name) if !roles().any(|known| known == name) => {
                unknown("role", name, did_you_mean(name, roles()));
            }
            Rule::Scope(name) if !draft.scopes.is_empty() && !scopes().any(|known| known == name) => {
                unknown("scope", name, did_you_mean(name, scopes()));
            }
            Rule::Predicate(name) if !draft.predicates.is_empty() && !predicates().any(|known| known == name) => {
                unknown("predicate", name, did_you_mean(name, predicates()));
            }
            Rule::Policy(name) if !policies().any(|known| known == name) && !draft.unread_policies.contains(name) => {
                let unread = draft.unread_policies.iter().map(String::as_str);
                unknown("policy", name, did_you_mean(name, policies().chain(unread)));
            }
            Rule::Compare(left, _, right) => {
                for name in [left, right].into_iter().filter_map(|operand| missing_parameter(operand, pattern.as_ref()))
                {
                    unknown("path parameter", name, in_path(name));
                }
            }
            Rule::In(operand, _) | Rule::Contains(operand, _) => {
                if let Some(name) = missing_parameter(operand, pattern.as_ref()) {
                    unknown("path parameter", name, in_path(name));
                }
            }
            _ => {}
        });
        rule.rule.walk(&mut |rule| {
            if matches!(rule, Rule::All(rules) | Rule::Any(rules) if rules.is_empty()) {
                wrong.push((rule_span.clone(), "a list of rules without a rule in it".to_owned()));
            }
        });
        for (words, message) in misfits(&rule.rule) {
            wrong.push((draft.place_of(&words, rule_span), message));
        }
        let sound = wrong.is_empty();
        wrong.into_iter().for_each(|(span, message)| self.mistake(&span, message));
        sound
    }
}

/// The path parameter an operand names, if the route's path does not have it. A policy has no path of its own: what
/// it names may be there on one route and missing on another, where the comparison is false.
fn missing_parameter<'o>(operand: &'o Operand, pattern: Option<&PathPattern>) -> Option<&'o str> {
    let (Operand::Path(name), Some(pattern)) = (operand, pattern) else { return None };
    (!pattern.parameters().any(|parameter| parameter == name)).then_some(name)
}

/// Everything reached from `start` in one step or more.
fn reach<'a>(start: &'a str, next: impl Fn(&str) -> Vec<&'a str>) -> BTreeSet<String> {
    let mut reached = BTreeSet::new();
    let mut open = next(start);
    while let Some(name) = open.pop() {
        if reached.insert(name.to_owned()) {
            open.extend(next(name));
        }
    }
    reached
}
