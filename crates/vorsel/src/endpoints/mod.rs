//! The standard endpoints around sessions, ready to mount: renewal, revocation, key set and metadata.
//!
//! | path | what |
//! |---|---|
//! | `POST {prefix}/token` | renewal, the `refresh_token` grant ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)) |
//! | `POST {prefix}/revoke` | sign-out ([RFC 7009](https://www.rfc-editor.org/rfc/rfc7009)) |
//! | `GET {prefix}/keys` | the public keys, a JWK Set |
//! | `GET /.well-known/oauth-authorization-server` | where the others are ([RFC 8414](https://www.rfc-editor.org/rfc/rfc8414)) |
//!
//! Signing in stays with the app: it checks the password and calls [`Sessions::start`](crate::Sessions::start). The routes must be `open` in the
//! access plan, since whoever calls them has no access token or an expired one.

mod form;
mod patient;
mod reply;
mod revoke;
mod router;
mod state;
mod token;

pub use patient::{Patient, PatientIo};
pub use reply::token_reply;
pub use state::Endpoints;
