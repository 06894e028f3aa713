//! A rule as it is written, each part marked: held or not, and by what.

use std::collections::BTreeSet;

use super::eval::Evaluator;
use super::facts::Facts;
use super::formula::Formula;
use super::normal::{NormalForm, RoleBook};
use super::tree::Rule;

/// A rule, or a part of one, for one caller and request: held or not, and by what.
///
/// ```
/// # use vorsel_core::{AccessPlan, SupposedCaller, Timestamp};
/// # let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer or acr == \"high\"").build()?;
/// let claims = serde_json::json!({ "sub": "obs-0017", "roles": ["observer"] });
/// let caller = SupposedCaller::with(claims.as_object().expect("an object"))?;
/// let why = plan.why("GET", "/dome", Some(&caller), Timestamp::from_secs(1_700_000_000));
/// let parts = why.reason.expect("a rule").parts;
/// assert_eq!((parts[0].rule.as_str(), parts[0].held), ("role observer", Some(true)));
/// assert_eq!(parts[1].held, Some(false));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Reason {
    /// The atom or policy as it is written, or `all of`, `one of`, `not` for what is put together from its parts.
    pub rule: String,
    /// Whether it holds; nothing as long as that hangs on a predicate that has not answered. Under a `not`, this is what the
    /// `not` turns round.
    pub held: Option<bool>,
    /// What the caller has of that which is asked for.
    pub seen: Option<String>,
    /// The parts, in the order written; none for a policy that stands there for the second time.
    pub parts: Vec<Reason>,
}

/// Marks every part of a rule.
pub(crate) fn reason(rule: &Rule, form: &NormalForm, book: &impl RoleBook, facts: &Facts<'_>) -> Reason {
    // Parts need formulas of their own, which the plan's form does not have for each.
    let mut form = form.clone();
    let part = Part::of(rule, true, &mut form, book, &mut BTreeSet::new());
    form.prepare(part.formula);
    part.marked(&Evaluator::new(&form, facts), facts)
}

struct Part<'r> {
    words: String,
    rule: &'r Rule,
    formula: Formula,
    /// Whether the formula says that the part holds; under a `not` it says that it does not.
    says_held: bool,
    parts: Vec<Part<'r>>,
}

impl<'r> Part<'r> {
    fn of(
        rule: &'r Rule,
        says_held: bool,
        form: &mut NormalForm,
        book: &'r impl RoleBook,
        shown: &mut BTreeSet<&'r str>,
    ) -> Self {
        let (words, inner, says_held_inside): (_, &[Rule], _) = match rule {
            Rule::All(rules) => ("all of".to_owned(), rules, says_held),
            Rule::Any(rules) => ("one of".to_owned(), rules, says_held),
            Rule::Not(inner) => ("not".to_owned(), std::slice::from_ref(&**inner), !says_held),
            Rule::Policy(name) if shown.insert(name) => {
                (rule.to_string(), book.policy(name).map_or(&[][..], std::slice::from_ref), says_held)
            }
            atom => (atom.to_string(), &[], says_held),
        };
        let formula = form.rule(rule, says_held, book);
        let parts = inner.iter().map(|part| Part::of(part, says_held_inside, form, book, shown)).collect();
        Self { words, rule, formula, says_held, parts }
    }

    fn marked(&self, evaluator: &Evaluator<'_, '_>, facts: &Facts<'_>) -> Reason {
        Reason {
            rule: self.words.clone(),
            held: evaluator.outcome(self.formula).map(|outcome| outcome == self.says_held),
            seen: facts.evidence(self.rule),
            parts: self.parts.iter().map(|part| part.marked(evaluator, facts)).collect(),
        }
    }
}
