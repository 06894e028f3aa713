//! How bytes and objects are written in tokens and keys, read strictly.

pub mod base64url;
pub(crate) mod json;

pub use json::{JsonError, Object};
