//! Which routes a caller may reach, as the caller may be told: never why.

use super::decide::CallerFacts;
use super::table::{Access, AccessPlan};
use crate::rule::Evaluator;
use crate::time::Timestamp;

/// A route that a caller may reach, or may reach as the case may be.
///
/// ```
/// use vorsel_core::{AccessPlan, CallerFacts, HangsOn, Timestamp, Vouched};
///
/// let plan = AccessPlan::builder().need("GET", "/dome", "signed-in").need("POST", "/dome", "signed-in within 10m").build()?;
/// let caller = Vouched::subject("obs-0017").checked()?;
/// let reached = plan.reached_by(CallerFacts::from(&caller), Timestamp::from_secs(1_700_000_000));
/// assert_eq!((reached[0].path, &reached[0].hangs_on[..]), ("/dome", &[][..]));
/// assert_eq!((reached[1].method, &reached[1].hangs_on[..]), ("POST", &[HangsOn::SignIn][..]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RouteReached<'p> {
    /// Its method, `*` for any.
    pub method: &'p str,
    /// Its path, as the plan has it.
    pub path: &'p str,
    /// What it hangs on; nothing if the caller may reach it now.
    pub hangs_on: Vec<HangsOn>,
}

/// What it hangs on whether a caller may reach a route.
///
/// ```
/// use vorsel_core::HangsOn;
///
/// assert_eq!([HangsOn::SignIn, HangsOn::Path, HangsOn::Check].map(HangsOn::as_str), ["sign-in", "path", "check"]);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum HangsOn {
    /// Signing in again, now or in a stronger way.
    SignIn,
    /// The parameters of the path.
    Path,
    /// A check of the app's.
    Check,
}

impl HangsOn {
    /// Its name on the wire.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::SignIn => "sign-in",
            Self::Path => "path",
            Self::Check => "check",
        }
    }
}

impl AccessPlan {
    /// The routes that a caller may reach at the moment `now`, and those that hang on something, in the order of the plan; what is not
    /// named, the caller may not reach. A fallback, which is no route, is not named. For the caller to be told: rules and the names of
    /// checks stay here.
    ///
    /// ```
    /// use vorsel_core::{AccessPlan, HangsOn};
    /// # use vorsel_core::{Checked, VouchError, Vouched};
    ///
    /// let plan = AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator")
    ///     .need("GET", "/observers/{observer}", "path.observer == sub").build()?;
    /// # let checked: Checked = Vouched::subject("obs-0017").checked()?;
    /// let reached = plan.reached_by((&checked).into(), vorsel_core::Timestamp::from_secs(0));
    /// assert_eq!((reached[0].path, &reached[0].hangs_on[..]), ("/observers/{observer}", &[HangsOn::Path][..]));
    /// assert_eq!(reached.len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[must_use]
    pub fn reached_by(&self, caller: CallerFacts<'_>, now: Timestamp) -> Vec<RouteReached<'_>> {
        let facts = self.facts_anywhere(caller, now);
        let evaluator = Evaluator::new(&self.form, &facts);
        let again = evaluator.after_signing_in_again();
        let routes = self.routes.iter().filter(|route| !route.is_fallback());
        let reached = routes.filter_map(|route| {
            let hangs_on = match (&route.access, route.formula) {
                (Access::Open, _) => Vec::new(),
                (_, None) => return None,
                (_, Some(formula)) => {
                    let now = evaluator.outcome(formula);
                    let later = again.outcome(formula);
                    let (path, check) = match (now, later) {
                        (Some(true), _) | (Some(false), Some(true)) => (false, false),
                        (Some(false), Some(false)) => return None,
                        (None, _) => evaluator.hangs_on(formula),
                        (Some(false), None) => again.hangs_on(formula),
                    };
                    let fresh = (now == Some(false)).then_some(HangsOn::SignIn);
                    let rest = [path.then_some(HangsOn::Path), check.then_some(HangsOn::Check)];
                    fresh.into_iter().chain(rest.into_iter().flatten()).collect()
                }
            };
            Some(RouteReached { method: route.method(), path: route.path(), hangs_on })
        });
        reached.collect()
    }
}
