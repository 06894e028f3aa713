//! The keys one issuer signs with, and their states over time.
//!
//! Every state follows from recorded dates and `now`, so all instances that hold the same keyring agree on it without
//! speaking to each other, and a step that was planned is taken by all of them at once.

mod error;
mod record;
mod ring;
mod take_up;
mod text;

pub use error::{KeyringTextError, StepError};
pub use record::{KeyRecord, KeyState};
pub use ring::{KeyTimes, Keyring};
pub use take_up::{Kept, TakenUp};
