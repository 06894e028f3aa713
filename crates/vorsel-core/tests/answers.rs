//! What a plan answers about itself, against a slow evaluator that is obviously right and against trying everybody out.

use std::collections::BTreeMap;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::Value;
use vorsel_core::rule::Rule;
use vorsel_core::{
    Access, AccessPlan, Credential, Object, Reach, Route, RouteChange, SupposedCaller, Verdict, Who, Witness,
};

mod common;
mod reference;
use common::NOW;
use reference::{PREDICATES, PlainPlan, Somebody, TEXTS, own_values, plans, reworded, somebody};

/// What the slow way says to a request: the entry is found by looking, the rule is read as it is written.
fn let_in(plan: &PlainPlan, method: &str, path: &str, who: Option<&Somebody>) -> bool {
    entry(plan, method, path).is_some_and(|(need, parameters)| passes(plan, need, &parameters, who))
}

type Entry<'p> = (Option<&'p Rule>, BTreeMap<String, String>);

fn entry<'p>(plan: &'p PlainPlan, method: &str, path: &str) -> Option<Entry<'p>> {
    let (pattern, parameters) = pattern_of(plan, path)?;
    let (_, _, need) = plan.routes.iter().find(|(of, at, _)| of == method && *at == pattern)?;
    Some((need.as_ref(), parameters))
}

fn passes(plan: &PlainPlan, need: Option<&Rule>, path: &BTreeMap<String, String>, who: Option<&Somebody>) -> bool {
    match (need, who) {
        (None, _) => true,
        (Some(_), None) => false,
        (Some(rule), Some(who)) => plan.holds(rule, who, path, false),
    }
}

/// The pattern that a path of at most two parts meets: fixed parts go before parameters, from the left.
fn pattern_of(plan: &PlainPlan, path: &str) -> Option<(String, BTreeMap<String, String>)> {
    let parts: Vec<&str> = path[1..].split('/').collect();
    let mut best: Option<(Vec<u8>, String, BTreeMap<String, String>)> = None;
    for (_, pattern, _) in &plan.routes {
        let (mut rank, mut parameters, mut fits) = (Vec::new(), BTreeMap::new(), true);
        let pieces: Vec<&str> = pattern[1..].split('/').collect();
        for (at, piece) in pieces.iter().enumerate() {
            let name = piece.strip_prefix('{').and_then(|piece| piece.strip_suffix('}'));
            match (name, parts.get(at)) {
                (_, None) => fits = false,
                (None, Some(part)) => {
                    rank.push(0);
                    fits &= part == piece;
                }
                (Some(name), Some(part)) => match name.strip_prefix('*') {
                    Some(name) => {
                        rank.push(2);
                        drop(parameters.insert(name.to_owned(), parts[at..].join("/")));
                    }
                    None => {
                        rank.push(1);
                        drop(parameters.insert(name.to_owned(), (*part).to_owned()));
                    }
                },
            }
        }
        fits &= pattern.contains('*') || pieces.len() == parts.len();
        if fits && best.as_ref().is_none_or(|(known, ..)| rank < *known) {
            best = Some((rank, pattern.clone(), parameters));
        }
    }
    best.map(|(_, pattern, parameters)| (pattern, parameters))
}

fn answers(plan: &AccessPlan, method: &str, path: &str, who: Option<&SupposedCaller>) -> bool {
    matches!(plan.why(method, path, who, NOW).verdict, Verdict::Open | Verdict::Allowed)
}

const PATHS: [&str; 8] = ["/r/u", "/r/v", "/r/x", "/q/u", "/u/u", "/q/v", "/r/u/v", "/r"];

/// A plan whose rules nobody fulfils does not load; with a way in that no caller has it does.
fn with_a_way_in(mut plan: PlainPlan) -> PlainPlan {
    let spare = || vorsel_core::rule::scope("spare");
    plan.policies.iter_mut().for_each(|(_, rule)| *rule = rule.clone().or(spare()));
    plan.routes.iter_mut().for_each(|(.., need)| *need = need.take().map(|rule| Rule::Any(vec![rule, spare()])));
    plan
}

/// 2,500 plans, for each of them 5 callers and 8 requests: 100,000 decisions.
#[test]
fn the_evaluator_agrees_with_the_plain_meaning_of_the_rules() {
    let mut runner = TestRunner::new(Config { cases: 2_500, failure_persistence: None, ..Config::default() });
    let (mut decisions, mut yes) = (0, 0);
    let cases = (plans(12).prop_map(with_a_way_in), proptest::collection::vec(somebody(), 5));
    let decisions_ref = std::cell::RefCell::new((&mut decisions, &mut yes));
    runner
        .run(&cases, |(plain, callers)| {
            let plan = plain.build().map_err(|error| TestCaseError::fail(format!("{error}")))?;
            for who in &callers {
                for path in PATHS {
                    let method = if path.len() % 2 == 0 { "GET" } else { "POST" };
                    let expected = let_in(&plain, method, path, Some(who));
                    let seen = answers(&plan, method, path, Some(&who.supposed(&PREDICATES, NOW)));
                    prop_assert_eq!(seen, expected, "{} {} by {:?}", method, path, who);
                    let mut counts = decisions_ref.borrow_mut();
                    *counts.0 += 1;
                    *counts.1 += u32::from(seen);
                }
            }
            Ok(())
        })
        .unwrap_or_else(|error| panic!("{error}"));
    assert!(decisions >= 100_000 && yes > 10_000, "{decisions} decisions, {yes} of them yes");
}

/// A predicate is asked only where the rule hangs on it, and what it says is what counts in the end.
#[test]
fn asking_predicates_one_by_one_comes_to_the_same() {
    let mut runner = TestRunner::new(Config { cases: 2_000, failure_persistence: None, ..Config::default() });
    runner
        .run(&(plans(12).prop_map(with_a_way_in), somebody()), |(plain, who)| {
            let plan = plain.build().map_err(|error| TestCaseError::fail(format!("{error}")))?;
            for path in PATHS {
                let mut caller = who.supposed(&[], NOW);
                let mut asked = Vec::new();
                while let Verdict::NeedsPredicate(name) = plan.why("GET", path, Some(&caller), NOW).verdict {
                    prop_assert!(!asked.contains(&name), "{} is asked twice", name);
                    caller = caller.answered(&name, who.yes.contains(&name));
                    asked.push(name);
                }
                prop_assert_eq!(answers(&plan, "GET", path, Some(&caller)), let_in(&plain, "GET", path, Some(&who)));
            }
            Ok(())
        })
        .unwrap_or_else(|error| panic!("{error}"));
}

/// Trying out more than these takes too long.
const MOST: usize = 1_500;

/// Everybody whom the rules of these plans can tell apart, as far as the plans ask.
fn everybody(plans: &[&PlainPlan]) -> Option<Vec<Somebody>> {
    let text: String = plans
        .iter()
        .flat_map(|plan| {
            let rules = plan.routes.iter().filter_map(|(.., need)| need.as_ref());
            rules.chain(plan.policies.iter().map(|(_, rule)| rule)).map(|rule| format!("{rule} and "))
        })
        .collect();
    let asked = |word: &str| text.contains(word);
    let mut all = vec![Somebody { credentials: vec![Credential::Bearer], ..Somebody::default() }];
    let mut spread = |is_asked: bool, change: &dyn Fn(&mut Somebody, usize), count: usize| {
        if !is_asked || all.len() > MOST {
            return;
        }
        all = all
            .iter()
            .flat_map(|who| {
                (0..count).map(move |index| {
                    let mut who = who.clone();
                    change(&mut who, index);
                    who
                })
            })
            .collect();
    };
    for role in ["a", "b", "c", "d", "stranger"] {
        let is_asked = asked("role ");
        spread(
            is_asked,
            &|who, on| {
                if on == 1 {
                    who.roles.push(role.to_owned());
                }
            },
            2,
        );
    }
    for scope in ["s", "t"] {
        spread(
            asked(&format!("scope {scope}")),
            &|who, on| {
                if on == 1 {
                    who.scopes.push(scope.to_owned());
                }
            },
            2,
        );
    }
    for predicate in PREDICATES {
        spread(
            asked(&format!("predicate {predicate}")),
            &|who, on| {
                if on == 1 {
                    who.yes.push(predicate.to_owned());
                }
            },
            2,
        );
    }
    let kinds = [
        vec![Credential::Bearer],
        vec![Credential::ApiKey],
        vec![Credential::Bearer, Credential::ApiKey],
        vec![Credential::Cookie],
        vec![Credential::Ticket],
    ];
    spread(asked("credential") || asked("client"), &|who, at| who.credentials = kinds[at].clone(), kinds.len());
    spread(asked("within"), &|who, at| who.signed_in_ago = [None, Some(10), Some(20), Some(21)][at], 4);
    let text_or_none = |at: usize| TEXTS.get(at).map(|text| (*text).to_owned());
    spread(asked("sub"), &|who, at| who.subject = text_or_none(at), TEXTS.len() + 1);
    let has_subject = asked("sub");
    spread(asked("client"), &|who, at| who.client = text_or_none([0, 1, 2, 9][at]), 4);
    spread(asked("client"), &|who, at| who.key_client = text_or_none([9, 0, 1, 2][at]), 4);
    spread(asked("issuer"), &|who, at| who.issuer = text_or_none([0, 1, 9][at]), 3);
    spread(has_subject, &|who, at| who.is_foreign = at == 1, 2);
    spread(asked("acr"), &|who, at| who.acr = text_or_none(at), 4);
    for claim in ["n", "m", "l", "o"] {
        let values = own_values(claim);
        let set = |who: &mut Somebody, at: usize| {
            if let Some(value) = values.get(at) {
                who.own.insert(claim.to_owned(), value.clone());
            }
        };
        spread(asked(&format!("claims.{claim}")), &set, values.len() + 1);
    }
    // A client's key comes as an API key; if nothing else comes, the caller is that client.
    all.retain(|who| {
        let Some(client) = &who.key_client else { return true };
        let is_alone = who.credentials == [Credential::ApiKey];
        let is_client = who.client.as_ref() == Some(client) && (!has_subject || who.subject.as_ref() == Some(client));
        who.credentials.contains(&Credential::ApiKey) && (!is_alone || is_client)
    });
    (all.len() <= MOST).then_some(all)
}

fn fed_back(witness: &Witness, plan: &AccessPlan) -> bool {
    answers(plan, witness.method(), witness.path(), witness.caller(NOW).as_ref())
}

fn holds_exactly(who: &Who, claims: &Object) -> bool {
    let held: Vec<&str> =
        claims.get("roles").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect();
    match who {
        Who::Anyone => claims.is_empty(),
        Who::SignedIn => held.is_empty(),
        Who::Role(role) => held == [role.as_str()],
        Who::Roles(roles) => held.len() > 1 && roles.iter().eq(held),
        _ => false,
    }
}

/// Another plan, the same plan in other words, or the plan with one route changed.
fn changed(one: &PlainPlan, other: PlainPlan, how: u8) -> PlainPlan {
    let mut after = one.clone();
    match how {
        0 => after.routes.iter_mut().for_each(|(.., need)| *need = need.as_ref().map(reworded)),
        1 => after.routes[0].2 = other.routes[0].2.clone(),
        _ => return other,
    }
    after
}

/// Whom the comparison names for the requests that meet these patterns.
fn named(changes: &[RouteChange], method: &str, patterns: [Option<&str>; 2], gains: bool) -> Vec<Who> {
    let meets = |change: &&RouteChange| {
        let entries = [change.before.as_ref().map(Route::path), change.after.as_ref().map(Route::path)];
        change.method() == method && entries == patterns
    };
    let lists = changes.iter().filter(meets).flat_map(|change| if gains { &change.gains } else { &change.loses });
    lists.map(|said| said.who.clone()).collect()
}

fn is_named(who: Option<&Somebody>, named: &[Who], columns: &[Who]) -> bool {
    let column = match who.map(|who| who.roles.as_slice()) {
        None => Who::Anyone,
        Some([]) => Who::SignedIn,
        Some([role]) => Who::Role(role.clone()),
        Some(_) => return !named.is_empty(),
    };
    // A role that no plan declares has no column; somebody who has it is still somebody.
    if columns.contains(&column) { named.contains(&column) } else { !named.is_empty() }
}

/// No false "same" and no false "differs": whoever is told apart by trying everybody is reported, and every example
/// proves its line.
#[test]
fn comparisons_say_neither_more_nor_less_than_trying_everybody() {
    let mut runner = TestRunner::new(Config { cases: 1_200, failure_persistence: None, ..Config::default() });
    let counts = std::cell::RefCell::new((0_u32, 0_u32, 0_u32));
    runner
        .run(&(plans(3), plans(3), 0..4_u8), |(one, other, how)| {
            let other = changed(&one, other, how);
            let (Ok(before), Ok(after)) = (one.build(), other.build()) else { return Ok(()) };
            let Some(everybody) = everybody(&[&one, &other]) else { return Ok(()) };
            let changes = before.compare(&after);
            for said in changes.iter().flat_map(|change| &change.gains) {
                let seen = (fed_back(&said.witness, &before), fed_back(&said.witness, &after));
                prop_assert_eq!(seen, (false, true), "{:?} gains by {}", said.who, said.witness);
                prop_assert!(holds_exactly(&said.who, &said.witness.claims()), "{:?}: {}", said.who, said.witness);
            }
            for said in changes.iter().flat_map(|change| &change.loses) {
                let seen = (fed_back(&said.witness, &before), fed_back(&said.witness, &after));
                prop_assert_eq!(seen, (true, false), "{:?} loses by {}", said.who, said.witness);
                prop_assert!(holds_exactly(&said.who, &said.witness.claims()), "{:?}: {}", said.who, said.witness);
            }
            prop_assert!(how != 0 || changes.is_empty(), "the same in other words differs: {:?}", changes);
            let columns = [before.columns(), after.columns()].concat();
            let mut differs = false;
            for (path, method) in PATHS.iter().flat_map(|path| [(*path, "GET"), (*path, "POST")]) {
                let entries = [entry(&one, method, path), entry(&other, method, path)];
                let pattern = |plan: &PlainPlan, entry: &Option<Entry<'_>>| {
                    entry.as_ref().and_then(|_| pattern_of(plan, path)).map(|(pattern, _)| pattern)
                };
                let patterns = [pattern(&one, &entries[0]), pattern(&other, &entries[1])];
                let patterns = [patterns[0].as_deref(), patterns[1].as_deref()];
                let (gained, lost) =
                    (named(&changes, method, patterns, true), named(&changes, method, patterns, false));
                for who in std::iter::once(None).chain(everybody.iter().map(Some)) {
                    let lets_in = |plan: &PlainPlan, entry: &Option<Entry<'_>>| {
                        entry.as_ref().is_some_and(|(need, parameters)| passes(plan, *need, parameters, who))
                    };
                    let (was, is) = (lets_in(&one, &entries[0]), lets_in(&other, &entries[1]));
                    differs |= was != is;
                    let said = if is { &gained } else { &lost };
                    let known = was == is || is_named(who, said, &columns);
                    prop_assert!(known, "{} {} by {:?} is not in {:?}", method, path, who, said);
                }
            }
            let mut counts = counts.borrow_mut();
            counts.0 += 1;
            counts.1 += u32::from(differs);
            counts.2 += u32::from(changes.is_empty());
            Ok(())
        })
        .unwrap_or_else(|error| panic!("{error}"));
    let (compared, differed, same) = counts.into_inner();
    assert!(compared > 200 && differed > 100 && same > 50, "{compared} pairs, {differed} differ, {same} are the same");
}

/// Each cell of the table against everybody with exactly those roles.
#[test]
fn the_table_says_yes_and_no_where_everybody_and_nobody_gets_in() {
    let mut runner = TestRunner::new(Config { cases: 600, failure_persistence: None, ..Config::default() });
    let counts = std::cell::RefCell::new([0_u32; 3]);
    runner
        .run(&plans(5), |plain| {
            let Ok(plan) = plain.build() else { return Ok(()) };
            let Some(everybody) = everybody(&[&plain]) else { return Ok(()) };
            let table = plan.table();
            for row in &table.rows {
                let method = row.route.method();
                let paths = PATHS
                    .iter()
                    .filter(|path| pattern_of(&plain, path).is_some_and(|(pattern, _)| pattern == row.route.path()));
                let paths: Vec<_> = paths.collect();
                for (who, reach) in table.columns.iter().zip(&row.reach) {
                    let theirs = everybody.iter().filter(|somebody| match who {
                        Who::SignedIn => somebody.roles.is_empty(),
                        Who::Role(role) => somebody.roles == [role.as_str()],
                        _ => false,
                    });
                    let seen: Vec<bool> = theirs
                        .flat_map(|somebody| paths.iter().map(|path| let_in(&plain, method, path, Some(somebody))))
                        .collect();
                    let (some, all) = (seen.contains(&true), !seen.contains(&false));
                    let fits = match reach {
                        Reach::Yes => all,
                        Reach::No => !some,
                        // Few paths are tried out here, so what the table calls possible may not be seen; the plan
                        // itself says so with an example in the comparison above.
                        _ => true,
                    };
                    prop_assert!(fits, "{} {} for {}: {:?}", method, row.route.path(), who, reach);
                    let at = match reach {
                        Reach::Yes => 0,
                        Reach::No => 1,
                        _ => 2,
                    };
                    counts.borrow_mut()[at] += 1;
                    if let (Reach::If(rule), true) = (reach, paths.len() > 1) {
                        prop_assert!(!rule.to_string().contains("policy") && !rule.to_string().contains("role "));
                    }
                }
                if let Some(witness) = &row.together {
                    prop_assert!(fed_back(witness, &plan), "{witness}");
                    prop_assert_ne!(row.route.access(), &Access::Open);
                }
            }
            Ok(())
        })
        .unwrap_or_else(|error| panic!("{error}"));
    assert!(counts.borrow().iter().all(|count| *count > 50), "{:?}", counts.borrow());
}
