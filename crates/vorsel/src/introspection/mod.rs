//! Asking the issuer what a token is worth ([RFC 7662](https://www.rfc-editor.org/rfc/rfc7662)), where it can't be told here.

mod answers;
mod ask;
mod builder;
mod error;

pub use builder::{Introspection, IntrospectionBuilder, IntrospectionLimits};
pub use error::IntrospectionError;

pub(crate) use ask::Asking;
