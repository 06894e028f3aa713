//! The decisions of Vorsel without IO: signed tokens, keys, findings, rules, access plans and session states.
//!
//! Everything here is a function of its inputs and a given `now`. There is no clock, no async runtime, no file and no
//! socket, and no randomness but what the primitives need to make keys and to sign; ids and session secrets are handed
//! in. Add the `vorsel` crate to an application; it brings the clock, the stores, the guard and the endpoints, and
//! re-exports what is here.

mod algorithm;
mod answer;
mod audit;
pub mod base64url;
mod claims;
mod credential;
mod expectations;
mod finding;
mod fulfilled;
mod issuer;
mod json;
mod jws;
mod key;
mod keyring;
mod kind;
mod own;
mod payload;
mod plan;
mod revocations;
pub mod rule;
mod scope;
mod session;
mod span;
mod time;
mod unchecked;
mod verifier;
mod vouched;

pub use algorithm::Algorithm;
pub use answer::{Answer, Refusal, problem};
pub use claims::{Checked, Claims, NoOwn};
pub use credential::{Credential, Credentials};
pub use expectations::{Expectations, SkewError};
pub use finding::{Check, Finding};
pub use issuer::{AccessDraft, IssueError, Issuer, Prepared};
pub use json::{JsonError, Object};
pub use key::{KeyError, KeySet, KeySetError, Secret, SigningKey, SkippedKey, VerifyingKey};
pub use keyring::{KeyRecord, KeyState, KeyTimes, Keyring, KeyringTextError, StepError};
pub use kind::Kind;
pub use plan::{
    Access, AccessPlan, AccessRow, AccessTable, CallerFacts, Change, Mistake, Place, PlanBuilder, PlanError, Reach,
    Route, RouteChange, SupposedCaller, SupposedCallerError, Unmet, Verdict, Who, Why, Witness,
};
pub use revocations::{Revocation, Revocations, Revoked};
pub use scope::{ScopeError, Scopes};
pub use session::{
    Beyond, EndReason, Ended, Generation, PerSubject, Presented, RefreshTokens, SESSION_SECRET_BYTES, Session,
    SessionLimits, Spent, Step,
};
pub use time::{Lifetime, LifetimeError, Timestamp, spoken};
pub use unchecked::{UncheckedError, UncheckedToken};
pub use verifier::{Findings, Verifier};
pub use vouched::VouchError;
