//! A token and its parts: taken apart, its claims read, and put together.

mod claims;
mod issuer;
mod jws;
mod kind;
mod own;
pub(crate) mod payload;
mod scope;
mod span;
mod unchecked;

pub use claims::{Checked, Claims, NoOwn};
pub use issuer::{AccessDraft, IssueError, Issuer, Prepared};
pub use kind::Kind;
pub use scope::{ScopeError, Scopes};
pub use unchecked::{UncheckedError, UncheckedToken};

pub(crate) use claims::{REGISTERED, registered_bit};
pub(crate) use issuer::Written;
pub(crate) use jws::{Compact, Header, header_segment};
pub(crate) use scope::is_scope;
