//! Other issuers, whose tokens are accepted: what they publish is fetched, kept, and followed.

mod builder;
mod feed;
mod fetch;
mod follow;
mod issuer;
mod limits;
mod metadata;
mod polls;

pub use builder::{RemoteIssuerBuilder, RemoteIssuerError};
pub use feed::RemoteFeedBuilder;
pub use fetch::FetchError;
pub use follow::RemoteFigures;
pub use issuer::RemoteIssuer;
pub use limits::RemoteLimits;
