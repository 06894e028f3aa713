//! The decisions of Vorsel without IO: signed tokens, keys, findings, rules, access plans and session states.
//!
//! Everything here is a function of its inputs and a given `now`. There is no clock, no async runtime, no file and no
//! socket, and no randomness but what the primitives need to make keys and to sign; ids and session secrets are handed
//! in. Add the `vorsel` crate to an application; it brings the clock, the stores, the guard and the endpoints, and
//! re-exports what is here.

#[macro_use]
mod causes;

mod answer;
mod credential;
mod encoding;
mod finding;
mod key;
mod keyring;
mod plan;
mod revocations;
pub mod rule;
mod session;
mod spelling;
mod time;
mod token;
mod verify;

pub use answer::{Answer, Challenge, Outcome, Refusal, Stop, problem};
pub use causes::with_causes;
pub use credential::{Credential, CredentialError, Credentials};
pub use encoding::{JsonError, Object, base64url};
pub use finding::{Check, Finding};
pub use key::{Algorithm, AlgorithmError, KeyError, KeySet, KeySetError, Secret, SigningKey, SkippedKey, VerifyingKey};
pub use keyring::{Kept, KeyRecord, KeyState, KeyTimes, Keyring, KeyringTextError, StepError, TakenUp};
pub use plan::{
    Access, AccessPlan, AccessRow, AccessTable, Budget, CallerFacts, Change, HangsOn, METHODS, Mistake,
    OpenApiCredentials, OpenApiDifferences, OpenApiError, PathPattern, Place, PlanBuilder, PlanError, Reach, Route,
    RouteChange, RouteReached, SupposedCaller, SupposedCallerError, Unmet, Verdict, Who, Why, Witness, entries_for,
};
pub use revocations::{FeedEvent, Revocation, Revocations, Revoked, at_issuer};
pub use session::{
    Advance, Arrivals, Beyond, CurrentToken, EndReason, Ended, Facts, FactsError, Generation, Load, PerSubject,
    Presented, Purpose, PurposeShown, PurposeTokens, RefreshTokens, Renewal, RenewalRefusal, RenewalStep,
    SESSION_SECRET_BYTES, Session, SessionLimits, SessionSeed, SignIn, Silences, Spent, Step, Swap,
};
#[doc(hidden)]
pub use spelling::did_you_mean;
pub use time::{ClockOffset, DurationError, Lifetime, LifetimeError, Timestamp, read_duration, spoken};
pub use token::{
    AccessDraft, Checked, Claims, DraftByClient, DraftForAudience, DraftOfSubject, IssueError, Issuer, Kind, NoOwn,
    Prepared, Reading, ReadingError, ScopeError, Scopes, UncheckedError, UncheckedToken, client_assertion,
};
pub use verify::{Expectations, Findings, IntrospectedError, Proven, SkewError, Verifier, VouchError, Vouched};
