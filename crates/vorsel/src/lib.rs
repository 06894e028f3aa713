//! Issue and check signed JWT access tokens, renew and end sessions, and guard routes by role, scope or policy.
//!
//! What an application adds: this crate has the clock, the session stores, the guard for tower and axum, and the
//! endpoints; everything that decides is in `vorsel-core`, re-exported here.
//!
//! ```
//! use vorsel::{AccessDraft, Expectations, Issuer, KeySet, Lifetime, SigningKey, Verifier};
//!
//! let key = SigningKey::generate(vorsel::Algorithm::EdDsa)?;
//! let keys = KeySet::new([key.verifying_key()]);
//! let issuer = Issuer::new("https://id.skarnhill.test", key);
//!
//! let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5))
//!     .roles(["observer"]);
//! let token = issuer.access(&draft, &vorsel::random_id()?, vorsel::now())?;
//!
//! let expectations = Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test");
//! let checked = Verifier::new(keys, expectations).check(&token, vorsel::now())?;
//! assert_eq!(checked.claims().subject(), Some("obs-0017"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! # Features
//!
//! | feature | default | what |
//! |---|---|---|
//! | `axum` | yes | [`Routes`] checked against the plan, [`Caller`] as an extractor, and the endpoints |
//! | `sqlite` | no | sessions in a file, the embedded store |
//! | `postgres` | no | sessions in PostgreSQL, for several instances |
//! | `redis` | no | sessions in Redis, for several instances |
//! | `client` | no | [`TokenKeeper`]: tokens of a client that are kept fresh |
//! | `cors` | no | CORS for the pages of the endpoints |
//! | `metrics` | no | figures through the `metrics` facade, see the page about them |
//! | `password` | no | hashes of passwords, Argon2id |
//! | `remote` | no | [`RemoteIssuer`]: other issuers' tokens and what they revoke, fetched; [`Introspection`]: issuers that are asked |
//! | `tls` | no | encrypted connections to the stores' servers |
//! | `testing` | no | a clock to move, an issuer to throw away, a picture of who may reach what, and the suite that every session store must pass |

mod access;
mod admission;
mod audit;
mod checker;
mod clients;
mod clock;
#[cfg(feature = "axum")]
pub mod endpoints;
mod guard;
#[cfg(feature = "remote")]
mod introspection;
#[cfg(feature = "client")]
mod keeper;
mod keys;
mod live;
mod meters;
#[cfg(any(feature = "client", feature = "remote"))]
mod outgoing;
#[cfg(feature = "password")]
mod password;
mod plan_file;
mod random;
#[cfg(feature = "remote")]
mod remote;
mod revocations;
mod sessions;
mod settings;
pub mod store;
#[cfg(feature = "testing")]
pub mod testing;
mod throttle;
mod tickets;
mod under_way;
mod waiting;

pub use access::{AccessTokens, AccessTokensBuilder, IssueTokenError, Issued, RevokeError, SetUpError};
pub use admission::{Admission, AdmissionError, Grant};
pub use checker::{Checker, FormerTokens, IntoChecker};
pub use clients::{
    Client, ClientGrant, ClientSecret, ClientSecretHash, ClientSecretHashError, Clients, ClientsError,
    ClientsFileError, FindClient,
};
pub use clock::{Clock, SystemClock, now};
pub use guard::{
    Admitted, Answered, ApiKey, ApiKeyHash, ApiKeyHashError, ApiKeyOwner, ApiKeys, Caller, Deciding, Guard,
    GuardBuilder, GuardError, Guarded, GuardedFuture, PredicateAnswer, PredicateRequest, RequestHead, StopCode,
    WhenSilent,
};
#[cfg(feature = "axum")]
pub use guard::{GuardedApp, GuardedAppFuture, NoCaller, PartialGuard, Routes, RoutesError};
#[cfg(feature = "remote")]
pub use introspection::{Introspection, IntrospectionBuilder, IntrospectionError, IntrospectionLimits};
#[cfg(feature = "client")]
pub use keeper::{
    KeeperError, KeeperLayer, Keeping, KeptTokens, RepeatBody, SendError, TokenFile, TokenKeeper, TokenKeeperBuilder,
    TokenPlace,
};
pub use keys::{IssuerKeys, KeyFileError, KeyStepError, KeyStoreError, LiveKeySet, LiveKeyring};
#[cfg(feature = "password")]
pub use password::{PasswordCheckError, PasswordHashError, PasswordLimits, PasswordVerdict, Passwords, hash_password};
pub use plan_file::{PlanFileError, load_plan};
pub use random::{RandomError, random_id};
#[cfg(feature = "remote")]
pub use remote::{
    FetchError, RemoteFeedBuilder, RemoteFigures, RemoteIssuer, RemoteIssuerBuilder, RemoteIssuerError, RemoteLimits,
};
pub use revocations::{FeedFigures, LiveRevocations};
pub use sessions::{
    ClientReply, ClientTokenError, EndError, Housekeeping, PurposeError, RedeemError, RenewError, RenewalRequest,
    SessionFigures, Sessions, SessionsBuilder, SignOutError, StartError, TokenReply,
};
pub use settings::{KeyPlace, OpenError, Opened, Settings, SettingsError};
pub use throttle::{Attempt, Passed, Throttle, Who};
#[cfg(feature = "password")]
pub use throttle::{Budget, MemoryThrottle, ThrottleLimits};
pub use tickets::{TicketError, Tickets};
pub use vorsel_core::*;

#[cfg(doctest)]
mod pages {
    #[doc = include_str!("../../../README.md")]
    struct Readme;
    #[doc = include_str!("../../../docs/access.md")]
    struct Access;
    #[cfg(feature = "remote")]
    #[doc = include_str!("../../../docs/asking-or-checking.md")]
    struct AskingOrChecking;
    #[doc = include_str!("../../../docs/credentials.md")]
    struct Credentials;
    #[doc = include_str!("../../../docs/endpoints.md")]
    struct Endpoints;
    #[cfg(feature = "client")]
    #[doc = include_str!("../../../docs/keeping-tokens.md")]
    struct KeepingTokens;
    #[doc = include_str!("../../../docs/moving-in.md")]
    struct MovingIn;
    #[doc = include_str!("../../../docs/operating.md")]
    struct Operating;
    #[cfg(feature = "remote")]
    #[doc = include_str!("../../../docs/other-issuers.md")]
    struct OtherIssuers;
    #[doc = include_str!("../../../docs/routers.md")]
    struct Routers;
    #[doc = include_str!("../../../docs/rules.md")]
    struct Rules;
    #[doc = include_str!("../../../docs/settings.md")]
    struct Settings;
    #[doc = include_str!("../../../docs/stores.md")]
    struct Stores;
    #[cfg(feature = "remote")]
    #[doc = include_str!("../../../docs/without-the-store.md")]
    struct WithoutTheStore;
}
