//! Checking the parts of a plan and putting them into the form that decides.

use std::collections::{BTreeMap, BTreeSet};

use super::draft::{DraftRoute, DraftRule, PlanBuilder, Spanned};
use super::exact::depth;
use super::lint::{Linter, misfits};
use super::mistake::{Span, did_you_mean};
use super::table::{Access, AccessPlan, Roles, Route};
use crate::finding::quoted;
use crate::rule::{Operand, Rule, is_name};
use crate::scope::is_scope;

/// The plan, every mistake in it, and what is worth a warning; with any mistake the plan is not to be used.
pub(super) struct Compiled {
    pub(super) plan: AccessPlan,
    pub(super) mistakes: Vec<(Span, String)>,
    pub(super) warnings: Vec<(Span, String)>,
}

pub(super) fn compile(draft: &PlanBuilder) -> Compiled {
    let mut compiler = Compiler { draft, mistakes: Vec::new(), unsound: BTreeSet::new(), sound: Vec::new() };
    let roles = compiler.roles();
    compiler.declared("scope", draft.scopes.iter(), is_scope);
    compiler.declared("check", draft.checks.iter(), is_name);
    let policies = compiler.policies();
    let (routes, paths) = compiler.routes();
    let deepest = routes.iter().map(|route| depth(&route.path)).max().unwrap_or_default();
    let plan = AccessPlan { roles, policies, routes, marks: Vec::new(), paths, deepest, warnings: Vec::new() };
    let Compiler { mut mistakes, unsound, sound, .. } = compiler;
    let mut linter = Linter { draft, plan: &plan, unsound: &unsound, mistakes: Vec::new(), warnings: Vec::new() };
    for (rule, path) in sound {
        linter.rule(rule, path);
    }
    linter.unused();
    linter.claim_types();
    mistakes.append(&mut linter.mistakes);
    let warnings = linter.warnings;
    Compiled { plan, mistakes, warnings }
}

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

    fn roles(&mut self) -> Roles {
        let declared = &self.draft.roles;
        self.declared("role", declared.iter().map(|(role, _)| role), is_name);
        let direct: BTreeMap<&str, &Vec<Spanned>> =
            declared.iter().map(|(role, includes)| (role.name.as_str(), includes)).collect();
        for Spanned { name, span } in declared.iter().flat_map(|(_, includes)| includes) {
            if !direct.contains_key(name.as_str()) {
                let advice = did_you_mean(name, direct.keys().copied());
                self.mistake(span, format!("unknown role {name:?}{advice}"));
            }
        }
        let mut roles = Roles::default();
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
            if roles.0.insert(role.name.clone(), good_as).is_none() {
                roles.1.push(role.name.clone());
            }
        }
        roles
    }

    fn policies(&mut self) -> BTreeMap<String, Rule> {
        let declared = &self.draft.policies;
        self.declared("policy", declared.iter().map(|(policy, _)| policy), is_name);
        for (policy, rule) in declared {
            let sound = self.names_in(rule, None);
            let reached = reach(&policy.name, |name| {
                let rule = declared.iter().find(|(policy, _)| policy.name == name).map(|(_, rule)| &rule.rule);
                rule.map(policies_in).unwrap_or_default()
            });
            if reached.contains(&policy.name) {
                self.mistake(&policy.span, format!("the policy {:?} asks for itself", policy.name));
            }
            if sound && !reached.contains(&policy.name) {
                self.sound.push((rule, None));
            } else {
                self.unsound.insert(policy.name.clone());
            }
        }
        declared.iter().map(|(policy, rule)| (policy.name.clone(), rule.rule.clone())).collect()
    }

    fn routes(&mut self) -> (Vec<Route>, matchit::Router<Vec<usize>>) {
        let mut routes: Vec<Route> = Vec::new();
        let mut patterns: Vec<(&Spanned, Vec<usize>)> = Vec::new();
        for route in &self.draft.routes {
            self.route(route);
            let (method, path) = (&route.method.name, &route.path.name);
            if routes.iter().any(|earlier| earlier.method == *method && earlier.path == *path) {
                self.mistake(&route.method.span, format!("{method} {path} has two entries"));
            }
            match patterns.iter_mut().find(|(pattern, _)| pattern.name == *path) {
                Some((_, indices)) => indices.push(routes.len()),
                None => patterns.push((&route.path, vec![routes.len()])),
            }
            let access = route.need.as_ref().map_or(Access::Open, |need| Access::Need(need.rule.clone()));
            routes.push(Route { method: method.clone(), path: path.clone(), access });
        }
        if routes.is_empty() && self.draft.mistakes.is_empty() {
            self.mistake(&None, "a plan without a route refuses every request; add [[routes]]".to_owned());
        }
        let mut paths = matchit::Router::new();
        for (Spanned { name, span }, indices) in patterns {
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

    fn route(&mut self, route: &'a DraftRoute) {
        const METHODS: [&str; 9] = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT"];
        let (method, path) = (&route.method.name, &route.path.name);
        if !METHODS.contains(&method.as_str()) {
            let advice = did_you_mean(&method.to_uppercase(), METHODS.into_iter());
            self.mistake(&route.method.span, format!("unknown method {}{advice}", quoted(method)));
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

    /// Every role, scope, policy, check and path parameter that a rule names must exist, and be compared with its like.
    /// Says whether all is well.
    fn names_in(&mut self, rule: &DraftRule, path: Option<&str>) -> bool {
        let (draft, rule_span) = (self.draft, &rule.span);
        let roles = || draft.roles.iter().map(|(role, _)| role.name.as_str());
        let scopes = || draft.scopes.iter().map(|scope| scope.name.as_str());
        let checks = || draft.checks.iter().map(|check| check.name.as_str());
        let policies = || draft.policies.iter().map(|(policy, _)| policy.name.as_str());
        let mut wrong = Vec::new();
        let mut unknown = |what: &str, name: &str, advice: String| {
            wrong.push((draft.place_of(name, &rule.span), format!("unknown {what} {name:?}{advice}")));
        };
        let parameters = path.map(parameters).unwrap_or_default();
        let in_path = |name: &str| {
            let advice = did_you_mean(name, parameters.iter().copied());
            format!(" in {}{advice}", quoted(path.unwrap_or_default()))
        };
        rule.rule.walk(&mut |rule| match rule {
            Rule::Role(name) if !roles().any(|known| known == name) => {
                unknown("role", name, did_you_mean(name, roles()));
            }
            Rule::Scope(name) if !draft.scopes.is_empty() && !scopes().any(|known| known == name) => {
                unknown("scope", name, did_you_mean(name, scopes()));
            }
            Rule::Check(name) if !draft.checks.is_empty() && !checks().any(|known| known == name) => {
                unknown("check", name, did_you_mean(name, checks()));
            }
            Rule::Policy(name) if !policies().any(|known| known == name) && !draft.unread_policies.contains(name) => {
                let unread = draft.unread_policies.iter().map(String::as_str);
                unknown("policy", name, did_you_mean(name, policies().chain(unread)));
            }
            Rule::Compare(left, _, right) => {
                for name in [left, right].into_iter().filter_map(|operand| missing_parameter(operand, path)) {
                    unknown("path parameter", name, in_path(name));
                }
            }
            Rule::In(operand, _) | Rule::Has(operand, _) => {
                if let Some(name) = missing_parameter(operand, path) {
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

/// The names of a path's parameters.
fn parameters(path: &str) -> Vec<&str> {
    let inside = path.split('{').skip(1).filter_map(|rest| rest.split('}').next());
    inside.map(|name| name.trim_start_matches('*')).collect()
}

/// The path parameter an operand names, if the route's path does not have it. A policy has no path of its own: what
/// it names may be there on one route and missing on another, where the comparison is false.
fn missing_parameter<'o>(operand: &'o Operand, path: Option<&str>) -> Option<&'o str> {
    let (Operand::Path(name), Some(path)) = (operand, path) else { return None };
    (!parameters(path).contains(&name.as_str())).then_some(name)
}

fn policies_in(rule: &Rule) -> Vec<&str> {
    let mut names = Vec::new();
    rule.walk(&mut |rule| {
        if let Rule::Policy(name) = rule {
            names.push(name.as_str());
        }
    });
    names
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
