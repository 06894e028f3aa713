//! One device's life and its refresh tokens.

mod state;

pub use state::{
    Beyond, EndReason, Ended, Generation, PerSubject, Presented, RefreshTokens, SESSION_SECRET_BYTES, Session,
    SessionLimits, Spent, Step,
};
