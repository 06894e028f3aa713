//! The rules once more, slowly and plainly: what a rule means, for comparing the evaluator with; and generated plans and
//! callers to compare on.
#![allow(dead_code, reason = "each test uses its part")]

use std::collections::BTreeMap;

use proptest::prelude::*;
use serde_json::{Value, json};
use vorsel_core::rule::{Comparison, Operand, Rule};
use vorsel_core::{AccessPlan, Credential, Credentials, Object, SupposedCaller, Timestamp};

/// A plan as plain data: what each role includes directly, the policies, and the routes, of which `None` is open.
#[derive(Clone, Debug)]
pub(crate) struct PlainPlan {
    pub(crate) roles: Vec<(String, Vec<String>)>,
    pub(crate) policies: Vec<(String, Rule)>,
    pub(crate) routes: Vec<(String, String, Option<Rule>)>,
    pub(crate) all_subjects: bool,
}

/// Everything that is known of a caller.
#[derive(Clone, Debug, Default)]
pub(crate) struct Somebody {
    pub(crate) subject: Option<String>,
    pub(crate) client: Option<String>,
    pub(crate) key_client: Option<String>,
    pub(crate) issuer: Option<String>,
    pub(crate) is_foreign: bool,
    pub(crate) acr: Option<String>,
    pub(crate) roles: Vec<String>,
    pub(crate) scopes: Vec<String>,
    pub(crate) signed_in_ago: Option<u64>,
    pub(crate) credentials: Vec<Credential>,
    pub(crate) yes: Vec<String>,
    pub(crate) own: Object,
}

impl PlainPlan {
    pub(crate) fn build(&self) -> Result<AccessPlan, vorsel_core::PlanError> {
        let mut builder = AccessPlan::builder();
        for (role, includes) in &self.roles {
            builder = builder.role(role, &includes.iter().map(String::as_str).collect::<Vec<_>>());
        }
        for (name, rule) in &self.policies {
            builder = builder.policy(name, rule.clone());
        }
        for (method, path, need) in &self.routes {
            builder = match need {
                Some(rule) => builder.need(method, path, rule.clone()),
                None => builder.open(method, path),
            };
        }
        if self.all_subjects {
            builder = builder.danger_all_subjects();
        }
        builder.build()
    }

    fn is_declared(&self, role: &str) -> bool {
        self.roles.iter().any(|(name, _)| name == role)
    }

    /// Whether `held` is `wanted` or includes it, directly or not.
    fn includes(&self, held: &str, wanted: &str) -> bool {
        self.roles
            .iter()
            .filter(|(name, _)| name == held)
            .any(|(name, includes)| name == wanted || includes.iter().any(|inner| self.includes(inner, wanted)))
    }

    /// What the rule means for this caller, on a path with these parameters.
    pub(crate) fn holds(&self, rule: &Rule, who: &Somebody, path: &BTreeMap<String, String>, negated: bool) -> bool {
        match rule {
            Rule::SignedIn => true,
            Rule::SignedInWithin(span) => who.signed_in_ago.is_some_and(|ago| ago <= span.as_secs()),
            Rule::Role(wanted) => {
                who.roles.iter().any(|held| self.includes(held, wanted) || (negated && !self.is_declared(held)))
            }
            Rule::Scope(wanted) => who.scopes.contains(wanted),
            Rule::Credential(kind) => who.credentials.contains(kind),
            Rule::Client(name) => [&who.client, &who.key_client].into_iter().flatten().any(|client| client == name),
            Rule::Issuer(name) => who.issuer.as_ref() == Some(name),
            Rule::Predicate(name) => who.yes.contains(name),
            Rule::Policy(name) => {
                let (_, rule) = self.policies.iter().find(|(known, _)| known == name).expect("a policy");
                self.holds(rule, who, path, negated)
            }
            Rule::Compare(left, comparison, right) => {
                let (left, right) = (self.value(left, who, path), self.value(right, who, path));
                compares(&left, *comparison, &right)
            }
            Rule::In(operand, values) => {
                let held = self.value(operand, who, path);
                values.iter().any(|one| compares(&held, Comparison::Equal, one))
            }
            Rule::Contains(operand, wanted) => match self.value(operand, who, path) {
                Value::Array(items) => items.iter().any(|item| compares(item, Comparison::Equal, wanted)),
                _ => false,
            },
            Rule::Not(inner) => !self.holds(inner, who, path, !negated),
            Rule::All(rules) => rules.iter().all(|rule| self.holds(rule, who, path, negated)),
            Rule::Any(rules) => rules.iter().any(|rule| self.holds(rule, who, path, negated)),
            other => panic!("a rule nobody told the reference of: {other}"),
        }
    }

    /// `null` for what is missing; it compares with nothing.
    fn value(&self, operand: &Operand, who: &Somebody, path: &BTreeMap<String, String>) -> Value {
        let text = |text: Option<&String>| text.map_or(Value::Null, |text| json!(text));
        match operand {
            Operand::Subject if !self.all_subjects && (who.is_foreign || who.subject == who.client) => Value::Null,
            Operand::Subject => text(who.subject.as_ref()),
            Operand::Acr => text(who.acr.as_ref()),
            Operand::Path(name) => text(path.get(name)),
            Operand::Literal(value) => value.clone(),
            Operand::Claim(names) => {
                let mut value = &Value::Object(who.own.clone());
                for name in names {
                    value = value.get(name).unwrap_or(&Value::Null);
                }
                value.clone()
            }
            other => panic!("an operand nobody told the reference of: {other}"),
        }
    }
}

/// The generated numbers are small, so doubles are exact.
fn compares(left: &Value, comparison: Comparison, right: &Value) -> bool {
    let order = match (left, right) {
        (Value::Number(left), Value::Number(right)) => left.as_f64().partial_cmp(&right.as_f64()),
        (Value::String(_), Value::String(_)) | (Value::Bool(_), Value::Bool(_)) => {
            return match comparison {
                Comparison::Equal => left == right,
                Comparison::Unequal => left != right,
                _ => false,
            };
        }
        _ => return false,
    };
    let order = order.expect("no NaN in JSON");
    match comparison {
        Comparison::Equal => order.is_eq(),
        Comparison::Unequal => order.is_ne(),
        Comparison::Less => order.is_lt(),
        Comparison::AtMost => order.is_le(),
        Comparison::Greater => order.is_gt(),
        Comparison::AtLeast => order.is_ge(),
    }
}

impl Somebody {
    /// The claims of a token of theirs that a rule may look at.
    pub(crate) fn claims(&self, now: Timestamp) -> Object {
        let mut claims = self.own.clone();
        claims.insert("roles".to_owned(), json!(self.roles));
        claims.insert("scope".to_owned(), json!(self.scopes.join(" ")));
        let ids = [("client_id", &self.client), ("iss", &self.issuer)];
        let texts = [("sub", &self.subject), ("acr", &self.acr)].into_iter().chain(ids);
        claims.extend(texts.filter_map(|(name, text)| Some((name.to_owned(), json!(text.as_ref()?)))));
        if let Some(ago) = self.signed_in_ago {
            claims.insert("auth_time".to_owned(), json!(now.as_secs() - i64::try_from(ago).expect("small")));
        }
        claims
    }

    pub(crate) fn credentials(&self) -> Credentials {
        self.credentials.iter().fold(Credentials::NONE, |all, kind| all.with(*kind))
    }

    /// The caller as a plan takes one.
    pub(crate) fn supposed(&self, predicates: &[&str], now: Timestamp) -> SupposedCaller {
        let mut caller = SupposedCaller::with(&self.claims(now)).expect("claims").by(self.credentials());
        if self.is_foreign {
            caller = caller.of_another_issuer();
        }
        if let Some(client) = &self.key_client {
            caller = caller.with_key_of(client);
        }
        predicates.iter().fold(caller, |caller, name| caller.answered(name, self.yes.iter().any(|yes| yes == name)))
    }
}

pub(crate) const ROLES: [&str; 4] = ["a", "b", "c", "stranger"];
pub(crate) const TEXTS: [&str; 5] = ["u", "v", "w", "x", "y"];
pub(crate) const PREDICATES: [&str; 2] = ["one", "two"];

fn pick<T: Clone + std::fmt::Debug + 'static>(from: &[T]) -> impl Strategy<Value = T> + use<T> {
    proptest::sample::select(from.to_vec())
}

/// A rule that a plan of [`plans`] may have; `path` names the path parameters.
pub(crate) fn rules(path: &'static [&'static str], atoms_at_most: u32) -> impl Strategy<Value = Rule> {
    let atoms: Vec<String> = [
        "signed-in",
        "role a",
        "role b",
        "role c",
        "scope s",
        "scope t",
        "policy p",
        "predicate one",
        "predicate two",
        "client u",
        "client v",
        "issuer u",
        "credential bearer",
        "credential api-key",
        "signed-in within 10s",
        "signed-in within 20s",
        "sub == \"u\"",
        "sub != \"v\"",
        "acr == \"u\"",
        "acr in [\"u\", \"v\"]",
        "claims.n >= 1",
        "claims.n > 1",
        "claims.n < 2",
        "claims.n == 1",
        "claims.n != 2",
        "claims.n <= claims.m",
        "claims.m == 2",
        "claims.n == \"u\"",
        "claims.n in [1, \"v\", true]",
        "claims.n == true",
        "claims.l contains \"u\"",
        "claims.l contains 1",
        "claims.l == 1",
        "claims.o.p == 1",
        "claims.o == 1",
        "claims.o.p contains 2",
        "claims.m == sub",
        "acr == sub",
    ]
    .into_iter()
    .map(str::to_owned)
    .chain(path.iter().flat_map(|name| {
        [format!("path.{name} == sub"), format!("path.{name} == \"u\""), format!("path.{name} in [\"v\", \"w\"]")]
    }))
    .collect();
    let atom = pick(&atoms).prop_map(|text| Rule::parse(&text).expect("an atom"));
    atom.prop_recursive(4, atoms_at_most, 3, |inner| {
        prop_oneof![
            inner.clone().prop_map(|rule| !rule),
            proptest::collection::vec(inner.clone(), 2..4).prop_map(Rule::All),
            proptest::collection::vec(inner, 2..4).prop_map(Rule::Any),
        ]
    })
}

fn without_policy(rule: Rule) -> Rule {
    match rule {
        Rule::Policy(_) => Rule::SignedIn,
        Rule::Not(inner) => !without_policy(*inner),
        Rule::All(rules) => Rule::All(rules.into_iter().map(without_policy).collect()),
        Rule::Any(rules) => Rule::Any(rules.into_iter().map(without_policy).collect()),
        atom => atom,
    }
}

/// Small plans: three roles that include each other or not, one policy, up to three routes whose paths may meet.
pub(crate) fn plans(atoms_at_most: u32) -> impl Strategy<Value = PlainPlan> {
    let names = |includes: &[&str]| includes.iter().map(|role| (*role).to_owned()).collect::<Vec<_>>();
    let roles = (
        pick(&[names(&[]), names(&["a"])]),
        pick(&[names(&[]), names(&["a"]), names(&["b"]), names(&["a", "b"])]),
        any::<bool>(),
    )
        .prop_map(|(b, c, has_c)| {
            let mut roles = vec![("a".to_owned(), Vec::new()), ("b".to_owned(), b)];
            // Rules name all three, so a plan declares them; what it declares beyond differs from plan to plan.
            roles.push(("c".to_owned(), c));
            if has_c {
                roles.push(("d".to_owned(), vec!["b".to_owned()]));
            }
            roles
        });
    let policy = rules(&[], 3).prop_map(without_policy);
    let route = move |path: &'static str, parameters: &'static [&'static str]| {
        (pick(&["GET", "POST"]), proptest::option::weighted(0.85, rules(parameters, atoms_at_most)))
            .prop_map(move |(method, rule)| (method.to_owned(), path.to_owned(), rule))
    };
    let routes = (
        proptest::option::of(route("/r/u", &[])),
        proptest::option::of(prop_oneof![route("/r/{x}", &["x"]), route("/r/{z}", &["z"])]),
        proptest::option::of(prop_oneof![
            route("/r/{*rest}", &["rest"]),
            route("/{y}/u", &["y"]),
            route("/{y}/{x}", &["x", "y"])
        ]),
    )
        .prop_map(|(one, two, three)| [one, two, three].into_iter().flatten().collect::<Vec<_>>());
    (roles, policy, routes, proptest::bool::weighted(0.2))
        .prop_filter("a plan has a route, and no two that clash", |(_, _, routes, _)| {
            let has = |path: &str| routes.iter().any(|(_, known, _)| known == path);
            !routes.is_empty() && !(has("/r/{*rest}") && (has("/r/{x}") || has("/r/{z}")))
        })
        .prop_map(|(roles, policy, routes, all_subjects)| {
            let policies = vec![("p".to_owned(), policy)];
            PlainPlan { roles, policies, routes, all_subjects }
        })
}

/// Any caller.
pub(crate) fn somebody() -> impl Strategy<Value = Somebody> {
    let text = || proptest::option::weighted(0.8, pick(&TEXTS).prop_map(str::to_owned));
    let some_of = |from: &'static [&'static str]| {
        proptest::sample::subsequence(from.to_vec(), 0..=from.len())
            .prop_map(|some| some.into_iter().map(str::to_owned).collect::<Vec<_>>())
    };
    let credentials = proptest::sample::subsequence(Credential::ALL.to_vec(), 1..=Credential::ALL.len());
    let own = ["n", "m", "l", "o"].map(|name| {
        let value = proptest::option::of(pick(&own_values(name)));
        value.prop_map(move |value| value.map(|value| (name.to_owned(), value)))
    });
    let token = (text(), proptest::option::weighted(0.2, pick(&TEXTS).prop_map(str::to_owned)), text(), any::<bool>());
    let facts = (text(), text(), proptest::option::of(0..40_u64), credentials);
    (facts, some_of(&ROLES), some_of(&["s", "t"]), some_of(&PREDICATES), own, token).prop_map(
        |(
            (subject, acr, signed_in_ago, credentials),
            roles,
            scopes,
            yes,
            own,
            (client, key_client, issuer, is_foreign),
        )| {
            let own = own.into_iter().flatten().collect();
            let mut who =
                Somebody { subject, acr, roles, scopes, signed_in_ago, credentials, yes, own, ..Somebody::default() };
            (who.client, who.key_client, who.issuer, who.is_foreign) = (client, key_client, issuer, is_foreign);
            who
        },
    )
}

/// Values of a claim, all that the atoms of [`rules`] tell apart.
pub(crate) fn own_values(claim: &str) -> Vec<Value> {
    let mut values = vec![json!(1), json!("u"), json!(2)];
    match claim {
        "l" => values.extend([json!(["u"]), json!([1]), json!([1.0, "u"]), json!([])]),
        "o" => values.extend([json!({ "p": 1 }), json!({ "p": [2.0] }), json!({ "p": "u" })]),
        _ => values.extend([json!(0), json!(1.5), json!(3), json!("v"), json!("y"), json!(true), json!(false)]),
    }
    values
}

/// The same rule in other words.
pub(crate) fn reworded(rule: &Rule) -> Rule {
    match rule {
        Rule::All(rules) => !Rule::Any(rules.iter().rev().map(|rule| !reworded(rule)).collect()),
        Rule::Any(rules) => !Rule::All(rules.iter().rev().map(|rule| !reworded(rule)).collect()),
        Rule::Not(inner) => !reworded(inner),
        atom => !!atom.clone(),
    }
}
