//! One device's life and its refresh tokens.

mod arrivals;
mod current;
mod facts;
mod limits;
mod presented;
mod purpose;
mod renewal;
mod silences;
mod state;
mod tokens;

pub use arrivals::Arrivals;
pub use current::CurrentToken;
pub use facts::{Facts, FactsError, SignIn};
pub use limits::{Beyond, PerSubject, SessionLimits};
pub use presented::Presented;
pub use purpose::{Purpose, PurposeShown, PurposeTokens};
pub use renewal::{Load, Renewal, RenewalRefusal, RenewalStep, Swap};
pub use silences::Silences;
pub use state::{Advance, EndReason, Ended, Generation, SESSION_SECRET_BYTES, Session, SessionSeed, Spent, Step};
pub use tokens::RefreshTokens;
