//! A checker of one issuer's tokens.

use std::fmt;
use std::sync::Arc;

use serde::de::DeserializeOwned;
use vorsel_core::{Checked, Expectations, Finding, KeySet, Proven, Timestamp, Verifier};

use super::seen::{self, SeenTokens};
use super::source::KeySource;
use crate::keys::LiveKeySet;
use crate::live::Live;
use crate::meters;

/// Checks tokens, and remembers those that it accepted so that they need not be checked in full again. `C` is the app's
/// own claims.
///
/// A token that is remembered is the same byte for byte, and its times are checked at each use. Whenever the keys
/// change, above all when a key is found to be compromised, everything is forgotten.
///
/// The memory is bounded: at most as many tokens as it has room for, each with at most
/// [`LARGEST_REMEMBERED`](Self::LARGEST_REMEMBERED) bytes of token and claims and what a value of `C` takes. A larger
/// token is checked in full each time. When there is no room, the token that was used longest ago makes way.
///
/// ```
/// use vorsel::{Algorithm, Checker, Expectations, KeySet, NoOwn, SigningKey};
///
/// let keys = KeySet::new([SigningKey::generate(Algorithm::EdDsa)?.verifying_key()]);
/// let expectations = Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test");
/// let checker: Checker<NoOwn> = Checker::new(keys, expectations);
/// let finding = checker.check("no token", vorsel::now()).unwrap_err();
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Checker<C> {
    current: Live<Verifier>,
    /// By versions of the verifier.
    seen: Arc<SeenTokens<C>>,
    meters: Arc<Meters>,
    /// Where keys are looked for that are not known.
    pub(super) source: Option<Arc<dyn KeySource>>,
}

/// What came of checks.
struct Meters {
    remembered: meters::Once,
    others: meters::Codes,
}

impl Meters {
    fn new() -> Arc<Self> {
        Arc::new(Self { remembered: meters::Once::new(), others: meters::Codes::new("vorsel_checks_total", "outcome") })
    }
}

impl<C> Checker<C> {
    /// How many tokens are remembered if nothing else is said: with tokens of usual size, some 10 MB.
    pub const DEFAULT_ROOM: usize = 4_096;
    /// The most bytes that one remembered token takes, with its claims and without the app's own type.
    pub const LARGEST_REMEMBERED: usize = seen::LARGEST;

    /// A checker that trusts `keys` as they are at each moment, those of a keyring or public ones alone, and requires
    /// `expectations`.
    #[must_use]
    pub fn new(keys: impl Into<LiveKeySet>, expectations: Expectations) -> Self
    where
        C: Send + Sync + 'static,
    {
        Self::with_room(keys, expectations, Self::DEFAULT_ROOM)
    }

    /// [`new`](Self::new) with room for another number of tokens; with room for none, each is checked in full each time.
    #[must_use]
    pub fn with_room(keys: impl Into<LiveKeySet>, expectations: Expectations, tokens: usize) -> Self
    where
        C: Send + Sync + 'static,
    {
        let make = move |keys: &KeySet| Verifier::new(keys.clone(), expectations.clone());
        Self::of(keys.into().derive(make), tokens)
    }

    /// Checks a token at the moment `now`.
    ///
    /// # Errors
    /// The first finding that does not hold; see [`Verifier::check_as`].
    pub fn check(&self, token: impl AsRef<[u8]>, now: Timestamp) -> Result<Arc<Checked<C>>, Box<Finding>>
    where
        C: DeserializeOwned,
    {
        self.check_proven(token, Proven::Nothing, now)
    }

    /// [`check`](Self::check) of a token whose sender has proven something.
    ///
    /// # Errors
    /// The first finding that does not hold; see [`Verifier::check_proven`].
    pub fn check_proven(
        &self,
        token: impl AsRef<[u8]>,
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Result<Arc<Checked<C>>, Box<Finding>>
    where
        C: DeserializeOwned,
    {
        let token = token.as_ref();
        self.remembered(token, proven, now).unwrap_or_else(|| self.check_anew(token, proven, now))
    }

    fn of(current: Live<Verifier>, room: usize) -> Self {
        Self { current, seen: Arc::new(SeenTokens::with_room(room)), meters: Meters::new(), source: None }
    }

    /// The claims of a token that was accepted before and stands beyond doubt, though nothing is proven.
    #[inline]
    pub(super) fn seen_before(&self, token: &[u8], now: Timestamp) -> Option<Arc<Checked<C>>> {
        let checked = self.seen.find(token, self.current.version()).filter(|checked| checked.is_undoubted(now))?;
        meters::remembered(&self.meters.remembered);
        Some(checked)
    }

    /// What comes of a token that was accepted before.
    pub(super) fn remembered(
        &self,
        token: &[u8],
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Option<Result<Arc<Checked<C>>, Box<Finding>>> {
        let version = self.current.version();
        let checked = self.seen.find(token, version)?;
        let again = self.current.load().check_again(&checked, proven, now).inspect_err(|finding| {
            self.seen.forget(token, version);
            self.meters.others.count(finding.check.code());
        });
        Some(again.map(|()| {
            meters::remembered(&self.meters.remembered);
            checked
        }))
    }

    pub(super) fn check_anew(
        &self,
        token: &[u8],
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Result<Arc<Checked<C>>, Box<Finding>>
    where
        C: DeserializeOwned,
    {
        let version = self.current.version();
        let checked = self.current.load().check_proven(token, proven, now);
        self.meters.others.count(checked.as_ref().map_or_else(|finding| finding.check.code(), |_| "accepted"));
        let checked = Arc::new(checked?);
        self.seen.remember(token, version, &checked);
        Ok(checked)
    }
}

impl<C> Checker<C> {
    /// The same, with a place where unknown keys are looked for.
    #[cfg(feature = "remote")]
    pub(crate) fn looking_in(self, source: Arc<dyn KeySource>) -> Self {
        Self { source: Some(source), ..self }
    }

    /// Whether a token that was accepted has not expired since.
    pub(crate) fn stands(&self, checked: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        self.current.load().check_again(checked, Proven::Nothing, now)
    }

    /// The audience a challenge names as its realm.
    pub(crate) fn realm(&self) -> Arc<str> {
        self.current.load().expectations().first_audience().unwrap_or("api").into()
    }

    /// The issuer whose tokens are expected; nothing if anybody's are.
    pub(crate) fn issuer(&self) -> Option<Arc<str>> {
        self.current.load().expectations().expected_issuer().map(Into::into)
    }
}

/// What a guard can check tokens by: a [`Checker`], or a [`Verifier`], whose keys stay as they are.
///
/// It is no `Into<Checker<C>>`, so that the compiler finds out by itself which `C` a checker is for that a `let` stands for:
///
/// ```
/// use vorsel::{AccessPlan, Checker, Expectations, Guard, GuardError, KeySet, NoOwn};
///
/// fn guard(keys: KeySet, expectations: Expectations, plan: AccessPlan) -> Result<Guard<NoOwn>, GuardError> {
///     let checker = Checker::new(keys, expectations);
///     Guard::new(checker, plan)
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "a guard cannot check tokens by `{Self}`",
    note = "hand it a Checker made from keys and expectations, or a Verifier"
)]
pub trait IntoChecker<C> {
    /// The checker.
    fn into_checker(self) -> Checker<C>;
}

impl<C> IntoChecker<C> for Checker<C> {
    fn into_checker(self) -> Self {
        self
    }
}

impl<C> IntoChecker<C> for Verifier {
    fn into_checker(self) -> Checker<C> {
        self.into()
    }
}

impl<C> From<Verifier> for Checker<C> {
    /// A checker whose keys stay as they are.
    fn from(verifier: Verifier) -> Self {
        Self::of(Live::new(verifier), Self::DEFAULT_ROOM)
    }
}

impl<C> Clone for Checker<C> {
    fn clone(&self) -> Self {
        let Self { current, seen, meters, source } = self;
        Self { current: current.clone(), seen: seen.clone(), meters: meters.clone(), source: source.clone() }
    }
}

impl<C> fmt::Debug for Checker<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Checker").field("verifier", &*self.current.load()).finish_non_exhaustive()
    }
}
