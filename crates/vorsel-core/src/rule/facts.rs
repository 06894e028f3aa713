//! What a rule is decided by: the caller, the request, and the moment.

use std::borrow::Cow;

use serde_json::Value;
use smallvec::SmallVec;

use super::compare::{Held, compare, equal};
use super::tree::{Operand, Rule};
use crate::credential::{Credential, Credentials};
use crate::finding::{quoted, quoted_list};
use crate::time::{Timestamp, spoken};
use crate::token::Claims;

/// The facts of one request.
#[derive(Clone, Debug)]
pub(crate) struct Facts<'a> {
    /// The caller's checked claims.
    pub(crate) caller: &'a Claims,
    /// Whether the caller counts as of our own issuer.
    pub(crate) own_issuer: bool,
    /// Whether `sub` means somebody whoever the caller is.
    pub(crate) all_subjects: bool,
    /// The client whose API key came along, if one did.
    pub(crate) key_client: Option<&'a str>,
    /// The kinds of credential that the request came with.
    pub(crate) credentials: Credentials,
    /// What the app's predicates have answered so far.
    pub(crate) answers: &'a [(String, bool)],
    /// The path parameters, percent-decoded.
    pub(crate) path: SmallVec<[(&'a str, Cow<'a, str>); 4]>,
    /// Whether there is a path; without one, nothing is known of its parameters.
    pub(crate) knows_path: bool,
    /// When it is asked.
    pub(crate) now: Timestamp,
}

/// Whether the atom is about a parameter of the path.
pub(super) fn names_path(atom: &Rule) -> bool {
    let is_path = |operand: &Operand| matches!(operand, Operand::Path(_));
    match atom {
        Rule::Compare(left, _, right) => is_path(left) || is_path(right),
        Rule::In(operand, _) | Rule::Contains(operand, _) => is_path(operand),
        _ => false,
    }
}

/// Whether the atom hangs on nothing but the claims, whether their issuer is our own, and, for a client, the key that came
/// along.
pub(super) fn asks_claims_alone(atom: &Rule) -> bool {
    match atom {
        Rule::Role(_) | Rule::Scope(_) | Rule::Client(_) | Rule::Issuer(_) => true,
        Rule::Compare(..) | Rule::In(..) | Rule::Contains(..) => !names_path(atom),
        _ => false,
    }
}

impl Facts<'_> {
    /// Whether an atom of the rule language holds; nothing as long as that hangs on a predicate that has not answered or on a
    /// path that is not known, and for a role, which only a plan can tell.
    pub(super) fn holds(&self, atom: &Rule) -> Option<bool> {
        if !self.knows_path && names_path(atom) {
            return None;
        }
        Some(match atom {
            Rule::SignedInWithin(span) => {
                let earliest = self.now.before(*span);
                self.caller.authenticated_at().is_some_and(|at| at >= earliest)
            }
            Rule::Scope(name) => self.caller.has_scope(name),
            Rule::Client(name) => self.clients().any(|client| client == name),
            Rule::Issuer(name) => self.caller.issuer() == Some(name),
            Rule::Credential(kind) => self.credentials.contains(*kind),
            Rule::Predicate(name) => return self.answer(name),
            Rule::Compare(left, comparison, right) => match (self.value(left), self.value(right)) {
                (Some(left), Some(right)) => compare(left, *comparison, right),
                _ => false,
            },
            Rule::In(operand, values) => {
                self.value(operand).is_some_and(|held| values.iter().any(|value| equal(held, Held::Json(value))))
            }
            Rule::Contains(operand, value) => match self.value(operand) {
                Some(Held::Json(Value::Array(held))) => {
                    held.iter().any(|held| equal(Held::Json(held), Held::Json(value)))
                }
                _ => false,
            },
            _ => return None,
        })
    }

    /// Whether `sub` means somebody to the plan: one of our own people, as a rule. A token whose subject is its client is the
    /// client's own ([RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)).
    fn subject_counts(&self) -> bool {
        self.all_subjects || self.own_issuer && self.caller.subject() != self.caller.client_id()
    }

    fn clients(&self) -> impl Iterator<Item = &str> {
        self.caller.client_id().into_iter().chain(self.key_client)
    }

    fn answer(&self, predicate: &str) -> Option<bool> {
        self.answers.iter().find(|(name, _)| name == predicate).map(|(_, answer)| *answer)
    }

    fn value<'v>(&'v self, operand: &'v Operand) -> Option<Held<'v>> {
        match operand {
            Operand::Literal(value) => Some(Held::Json(value)),
            Operand::Subject => self.caller.subject().filter(|_| self.subject_counts()).map(Held::Text),
            Operand::Acr => self.caller.acr().map(Held::Text),
            Operand::Path(name) => {
                let (_, value) = self.path.iter().find(|(parameter, _)| parameter == name)?;
                Some(Held::Text(value))
            }
            Operand::Claim(names) => {
                let (first, rest) = names.split_first()?;
                let claim = self.caller.own(first)?;
                rest.iter().try_fold(claim, |value, name| value.get(name)).map(Held::Json)
            }
        }
    }

    /// What the caller has of that which an atom asks for; nothing for a rule that is no atom.
    pub(super) fn evidence(&self, rule: &Rule) -> Option<String> {
        let operands: &[&Operand] = match rule {
            Rule::Role(_) => return Some(quoted_list(self.caller.roles())),
            Rule::Scope(_) => return Some(quoted_list(self.caller.scopes())),
            Rule::Client(_) => return Some(quoted_list(self.clients())),
            Rule::Issuer(_) => return Some(quoted_list(self.caller.issuer().into_iter())),
            Rule::Credential(_) => return Some(quoted_list(self.credentials.iter().map(Credential::name))),
            Rule::Predicate(name) => {
                return Some(self.answer(name).map_or("no answer", |yes| if yes { "yes" } else { "no" }).to_owned());
            }
            Rule::SignedInWithin(_) => {
                return Some(self.caller.authenticated_at().map_or("no auth_time".to_owned(), |at| {
                    format!("auth_time {at}, {} ago", spoken(at.distance(self.now)))
                }));
            }
            Rule::Compare(left, _, right) => &[left, right],
            Rule::In(operand, _) | Rule::Contains(operand, _) => &[operand],
            _ => return None,
        };
        let seen: Vec<_> = operands.iter().filter_map(|operand| self.seen(operand)).collect();
        Some(seen.join(", "))
    }

    /// The value behind an operand as a log may show it; nothing for a literal, which the rule shows already.
    fn seen(&self, operand: &Operand) -> Option<String> {
        if matches!(operand, Operand::Literal(_)) {
            return None;
        }
        Some(match self.value(operand) {
            None if *operand == Operand::Subject && self.caller.subject().is_some() => {
                format!("sub {}, who is not one of our own people", quoted(self.caller.subject().unwrap_or_default()))
            }
            None => format!("no {operand}"),
            Some(Held::Json(Value::String(text))) => format!("{operand} {}", quoted(text)),
            Some(Held::Json(Value::Array(items))) => format!("{operand} with {} items", items.len()),
            Some(Held::Json(Value::Object(_))) => format!("{operand} as an object"),
            Some(Held::Json(plain)) => format!("{operand} {plain}"),
            Some(Held::Text(text)) => format!("{operand} {}", quoted(text)),
        })
    }
}
