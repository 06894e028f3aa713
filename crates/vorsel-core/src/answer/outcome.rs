//! From the plan's verdict to what comes of the request: said once, for the guard and for the desk.

use std::fmt;

use super::refusal::{Refusal, allow};
use super::reply::Answer;
use crate::plan::Verdict;

/// What comes of a request whose caller is a `T`.
///
/// ```
/// use vorsel_core::{Outcome, Refusal, Stop, Verdict};
///
/// assert!(matches!(Outcome::of(Verdict::Allowed, Ok(Some("obs-0017"))), Outcome::Passed(Some("obs-0017"))));
/// let stopped = Outcome::of(Verdict::NeedsCaller, Ok(None::<&str>));
/// assert!(matches!(stopped, Outcome::Stopped(Stop::Refused(Refusal::NoCredential))));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub enum Outcome<T> {
    /// The handler gets it, with the caller if there is one.
    Passed(Option<T>),
    /// The predicate of this name has to answer first; the caller that it is about.
    Asks(String, T),
    /// The client is answered without the handler.
    Stopped(Stop),
}

/// What the client is answered without the handler.
///
/// ```
/// use vorsel_core::{Refusal, Stop};
///
/// let stop = Stop::from(Refusal::NoCredential);
/// assert_eq!((stop.answer("api").status, stop.code()), (401, "no-credential"));
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Stop {
    /// A CORS preflight, which comes without credentials; answered here, since a handler is no place for it.
    Preflight,
    /// A request for the options of a path, answered with the methods that the caller may use.
    Options {
        /// The methods.
        methods: Vec<String>,
    },
    /// The request is refused.
    Refused(Refusal),
}

impl<T> Outcome<T> {
    /// What a verdict comes to for this caller, or for a request whose credentials were refused.
    #[inline]
    pub fn of(verdict: Verdict, caller: Result<Option<T>, Refusal>) -> Self {
        let refusal = match (verdict, caller) {
            (Verdict::Open, caller) => return Self::Passed(caller.ok().flatten()),
            (Verdict::Allowed, Ok(caller)) => return Self::Passed(caller),
            (Verdict::NeedsPredicate(predicate), Ok(Some(caller))) => return Self::Asks(predicate, caller),
            (Verdict::Methods(methods), _) => return Self::Stopped(Stop::Options { methods }),
            (Verdict::Refused(unmet), _) => Refusal::Unmet(unmet),
            (Verdict::BadParameter(parameter), _) => Refusal::BadParameter { parameter },
            (Verdict::NoMethod(methods), _) => Refusal::NoMethod { methods },
            (_, Err(refusal)) => refusal,
            (Verdict::NoRule, Ok(caller)) => Refusal::NoRule { signed_in: caller.is_some() },
            (Verdict::NeedsCaller | Verdict::NeedsPredicate(_), Ok(_)) => Refusal::NoCredential,
        };
        Self::Stopped(refusal.into())
    }
}

impl Stop {
    /// The name of what happened, for logs and scripts.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::Preflight => "preflight",
            Self::Options { .. } => "options",
            Self::Refused(refusal) => refusal.code(),
        }
    }

    /// The answer for the client, in the name of `realm`.
    #[must_use]
    pub fn answer(&self, realm: &str) -> Answer {
        let served = |allow| Answer { status: 204, challenges: Vec::new(), allow, problem: None };
        match self {
            Self::Preflight => served(None),
            Self::Options { methods } => served(Some(allow(methods))),
            Self::Refused(refusal) => refusal.answer(realm),
        }
    }
}

impl From<Refusal> for Stop {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(refusal)
    }
}

impl fmt::Display for Stop {
    /// One line for the log.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Preflight => f.write_str("preflight: answered; a CORS layer belongs around the guard"),
            Self::Options { methods } => write!(f, "options: answered with {}", methods.join(", ")),
            Self::Refused(refusal) => refusal.fmt(f),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_verdict_comes_to_one_outcome_whoever_asks() {
        let methods = || vec!["GET".to_owned()];
        let verdicts: [fn(Vec<String>) -> Verdict; 8] = [
            |_| Verdict::Open,
            |_| Verdict::Allowed,
            |_| Verdict::NeedsCaller,
            |_| Verdict::NeedsPredicate("owns-exposure".to_owned()),
            Verdict::Methods,
            Verdict::NoMethod,
            |_| Verdict::NoRule,
            |_| Verdict::BadParameter("id".to_owned()),
        ];
        let callers = || [Ok(Some(())), Ok(None), Err(Refusal::BadApiKey)];
        let expected = [
            ["passed with a caller", "passed", "passed"],
            ["passed with a caller", "passed", "unknown-api-key 401"],
            ["no-credential 401", "no-credential 401", "unknown-api-key 401"],
            ["asks owns-exposure", "no-credential 401", "unknown-api-key 401"],
            ["options 204", "options 204", "options 204"],
            ["no-method 405", "no-method 405", "no-method 405"],
            ["no-rule 403", "no-rule 401", "unknown-api-key 401"],
            ["bad-parameter 400", "bad-parameter 400", "bad-parameter 400"],
        ];
        for (verdict, expected) in verdicts.iter().zip(expected) {
            let seen = callers().map(|caller| match Outcome::of(verdict(methods()), caller) {
                Outcome::Passed(Some(())) => "passed with a caller".to_owned(),
                Outcome::Passed(None) => "passed".to_owned(),
                Outcome::Asks(predicate, ()) => format!("asks {predicate}"),
                Outcome::Stopped(stop) => format!("{} {}", stop.code(), stop.answer("hill").status),
            });
            assert_eq!(seen, expected, "{:?}", verdict(methods()));
        }
    }
}
