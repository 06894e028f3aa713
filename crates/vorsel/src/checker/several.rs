//! Checking the tokens of several issuers: each goes to the one that it names, and to no other.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use serde::de::DeserializeOwned;
use vorsel_core::{Check, Checked, Finding, Proven, Timestamp, UncheckedToken};

use super::former::FormerTokens;
use super::one::Checker;
use super::source::{Asked, Asks, Looking};

/// The issuer that the app expects, and others beside it.
pub(crate) struct Checkers<C> {
    own: Checker<C>,
    others: Vec<(Arc<str>, Checker<C>)>,
    hints: Hints,
    /// Issuers that are asked.
    asked: Vec<Arc<dyn Asks<C>>>,
    former: Vec<FormerTokens<C>>,
}

/// Which checker has seen a token before, as far as anybody remembers: a wrong hint costs a look into one more table.
struct Hints(Box<[AtomicU8]>);

impl Hints {
    const PLACES: usize = 4_096;

    fn none() -> Self {
        Self(Box::default())
    }

    fn some() -> Self {
        Self((0..Self::PLACES).map(|_| AtomicU8::new(0)).collect())
    }

    /// By the end of its signature.
    fn place(&self, token: &[u8]) -> Option<&AtomicU8> {
        let word = u64::from_ne_bytes(*token.last_chunk::<8>()?);
        let at = word.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 52;
        self.0.get(usize::try_from(at).ok()?)
    }

    fn of(&self, token: &[u8]) -> usize {
        self.place(token).map_or(0, |hint| usize::from(hint.load(Ordering::Relaxed)))
    }

    fn set(&self, token: &[u8], index: usize) {
        if let (Some(hint), Ok(index)) = (self.place(token), u8::try_from(index)) {
            hint.store(index, Ordering::Relaxed);
        }
    }
}

/// A token that was accepted.
pub(crate) struct Found<C> {
    pub(crate) checked: Arc<Checked<C>>,
    /// Whether it is of our own people, whatever issuer it names.
    pub(crate) is_former: bool,
}

/// Why there are no claims yet.
pub(crate) enum NotChecked<C> {
    /// It is refused; or nobody can tell now, since its issuer's keys can't be had.
    Refused { finding: Box<Finding>, unanswered: Option<String> },
    /// Its key is being looked for.
    Looking(Looking),
    /// Its issuer is asked.
    Asked(Asked<C>),
}

impl<C> Checkers<C> {
    pub(crate) fn of(own: Checker<C>) -> Self {
        Self { own, others: Vec::new(), hints: Hints::none(), asked: Vec::new(), former: Vec::new() }
    }

    /// Another issuer's tokens as well.
    ///
    /// # Errors
    /// If the checker takes tokens of anybody, or of an issuer that has one already.
    pub(crate) fn add(&mut self, checker: Checker<C>) -> Result<(), String> {
        let issuer = checker.issuer().ok_or("expected another issuer's tokens, but found anybody's")?;
        let is_there =
            self.others.iter().any(|(known, _)| *known == issuer) || self.own.issuer().is_none_or(|own| own == issuer);
        if is_there {
            return Err(format!("expected one checker for each issuer, but found another for {issuer:?}"));
        }
        self.others.push((issuer, checker));
        self.hints = Hints::some();
        Ok(())
    }

    /// An issuer that is asked about tokens that are no JWTs, and about those that name it if it says so.
    ///
    /// # Errors
    /// If there is one already for the same tokens.
    #[cfg(feature = "remote")]
    pub(crate) fn ask(&mut self, asks: Arc<dyn Asks<C>>) -> Result<(), String> {
        let clashes =
            |known: &Arc<dyn Asks<C>>| !(known.takes_jwts() && asks.takes_jwts()) || known.issuer() == asks.issuer();
        if self.asked.iter().any(clashes) {
            return Err(format!(
                "expected one issuer to ask about tokens that are no JWTs, but found {:?} as well",
                asks.issuer()
            ));
        }
        self.asked.push(asks);
        Ok(())
    }

    /// What comes of a token that somebody is asked about; nothing if it is to be checked here.
    fn asked(&self, token: &[u8], now: Timestamp) -> Option<Result<Arc<Checked<C>>, NotChecked<C>>> {
        let refused = |finding| NotChecked::Refused { finding, unanswered: None };
        let answer = |asks: &Arc<dyn Asks<C>>| Some(asks.known(token, now)?.map_err(refused));
        let ask = |asks: &Arc<dyn Asks<C>>| Err(NotChecked::Asked(asks.ask(token, now)));
        if token.iter().filter(|byte| **byte == b'.').count() != 2 {
            return self.asked.first().map(|asks| answer(asks).unwrap_or_else(|| ask(asks)));
        }
        let mut for_jwts = self.asked.iter().filter(|asks| asks.takes_jwts()).peekable();
        for_jwts.peek()?;
        // What was answered a moment ago need not be read to know whom it names.
        for_jwts.clone().find_map(answer).or_else(|| {
            let named = UncheckedToken::issuer_named(token)?;
            for_jwts.find(|asks| asks.issuer() == named).map(ask)
        })
    }

    pub(crate) fn former(&mut self, former: FormerTokens<C>) {
        self.former.push(former);
    }

    /// Whether another issuer's tokens are taken as well.
    pub(crate) fn has_other(&self, issuer: &str) -> bool {
        self.others.iter().any(|(known, _)| &**known == issuer) || self.asked.iter().any(|asks| asks.issuer() == issuer)
    }

    pub(crate) const fn own(&self) -> &Checker<C> {
        &self.own
    }

    /// Whether a token that was accepted has not expired since.
    pub(crate) fn stands(&self, checked: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        self.of_issuer(checked.claims().issuer()).stands(checked, now)
    }

    /// Our own, and the others from 1 on.
    fn at(&self, index: usize) -> &Checker<C> {
        index.checked_sub(1).and_then(|at| self.others.get(at)).map_or(&self.own, |(_, checker)| checker)
    }

    fn of_issuer(&self, issuer: Option<&str>) -> &Checker<C> {
        let other = self.others.iter().find(|(known, _)| Some(&**known) == issuer);
        other.map_or(&self.own, |(_, checker)| checker)
    }
}

impl<C> Checkers<C> {
    /// A token of our own issuer, where there is no other, that was checked before and stands.
    #[inline]
    pub(crate) fn seen_before(&self, token: &[u8], now: Timestamp) -> Option<Arc<Checked<C>>> {
        if self.asked.is_empty() && self.others.is_empty() { self.own.seen_before(token, now) } else { None }
    }
}

impl<C: DeserializeOwned> Checkers<C> {
    pub(crate) fn check(&self, token: &[u8], proven: Proven<'_>, now: Timestamp) -> Result<Found<C>, NotChecked<C>> {
        match self.of_today(token, proven, now) {
            Ok(checked) => Ok(Found { checked, is_former: false }),
            Err(not) => {
                let former = self.former.iter().find_map(|former| former.check(token, proven, now));
                former.map_or(Err(not), |checked| Ok(Found { checked, is_former: true }))
            }
        }
    }

    fn of_today(&self, token: &[u8], proven: Proven<'_>, now: Timestamp) -> Result<Arc<Checked<C>>, NotChecked<C>> {
        if !self.asked.is_empty()
            && let Some(answer) = self.asked(token, now)
        {
            return answer;
        }
        if self.others.is_empty() {
            return self.own.check_proven(token, proven, now).map_err(|finding| self.own.not_checked(finding));
        }
        // What was seen before need not be read to know whose it is.
        let hint = self.hints.of(token);
        let first = self.at(hint).remembered(token, proven, now).map(|again| (hint, again));
        let found = first.or_else(|| {
            let others = (0..=self.others.len()).filter(|at| *at != hint);
            others.into_iter().find_map(|at| Some((at, self.at(at).remembered(token, proven, now)?)))
        });
        let (at, checked) = found.unwrap_or_else(|| {
            let named = UncheckedToken::issuer_named(token);
            let other = self.others.iter().position(|(known, _)| Some(&**known) == named.as_deref());
            let at = other.map_or(0, |at| at + 1);
            (at, self.at(at).check_anew(token, proven, now))
        });
        match checked {
            Ok(checked) => {
                if at != hint {
                    self.hints.set(token, at);
                }
                Ok(checked)
            }
            Err(finding) => Err(self.at(at).not_checked(finding)),
        }
    }
}

impl<C> Checker<C> {
    fn not_checked(&self, finding: Box<Finding>) -> NotChecked<C> {
        let source = self.source.as_ref().filter(|_| finding.check == Check::Key);
        match source.and_then(|source| source.look_again()) {
            Some(looking) => NotChecked::Looking(looking),
            None => NotChecked::Refused { unanswered: source.and_then(|source| source.missing()), finding },
        }
    }
}

impl<C> fmt::Debug for Checkers<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Checkers").field("own", &self.own).field("others", &self.others).finish()
    }
}
