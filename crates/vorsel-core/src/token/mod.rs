//! A token and its parts: taken apart, its claims read, and put together.

mod assertion;
mod claims;
mod draft;
mod issuer;
mod jws;
mod kind;
mod names;
mod own;
mod page;
mod passed;
pub(crate) mod payload;
mod reading;
mod scope;
mod unchecked;
mod written;

pub use assertion::client_assertion;
pub use claims::{Checked, Claims, NoOwn};
pub use draft::{AccessDraft, DraftByClient, DraftForAudience, DraftOfSubject};
pub use issuer::{IssueError, Issuer, Prepared};
pub use kind::Kind;
pub use reading::{Reading, ReadingError};
pub use scope::{ScopeError, Scopes};
pub use unchecked::{UncheckedError, UncheckedToken};

pub(crate) use claims::{REGISTERED, registered_bit};
pub(crate) use jws::{Compact, Header, SIZE_LIMIT, header_segment};
pub(crate) use names::NameHash;
pub(crate) use passed::{Pass, Passed};
pub(crate) use scope::is_scope;
pub(crate) use written::{Audience, ClaimsToWrite};
