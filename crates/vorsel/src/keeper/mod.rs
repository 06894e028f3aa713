//! The client's side: a pair of tokens that is kept fresh.

mod ask;
mod builder;
mod error;
mod file;
mod flight;
mod kept;
mod layer;
mod send;

pub use builder::TokenKeeperBuilder;
pub use error::{KeeperError, SendError};
pub use file::TokenFile;
pub use flight::TokenKeeper;
pub use kept::{KeptTokens, TokenPlace};
pub use layer::{KeeperLayer, Keeping, RepeatBody};
