//! The standard endpoints around sessions and clients, ready to mount.
//!
//! | endpoint | path | what |
//! |---|---|---|
//! | [`Token`](Endpoint::Token) | `POST {prefix}/token` | renewal ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)), and tokens for clients themselves ([section 4.4](https://www.rfc-editor.org/rfc/rfc6749#section-4.4)) |
//! | [`Revocation`](Endpoint::Revocation) | `POST {prefix}/revoke` | sign-out ([RFC 7009](https://www.rfc-editor.org/rfc/rfc7009)) |
//! | [`KeySet`](Endpoint::KeySet) | `GET {prefix}/keys` | the public keys, a JWK Set |
//! | [`Metadata`](Endpoint::Metadata) | `GET /.well-known/oauth-authorization-server` and the issuer's path | where the others are ([RFC 8414](https://www.rfc-editor.org/rfc/rfc8414)) |
//! | [`Introspection`](Endpoint::Introspection) | `POST {prefix}/introspect` | what a token is worth ([RFC 7662](https://www.rfc-editor.org/rfc/rfc7662)) |
//! | [`Feed`](Endpoint::Feed) | `POST {prefix}/feed` | what is revoked, for services without the store ([RFC 8417](https://www.rfc-editor.org/rfc/rfc8417), [RFC 8936](https://www.rfc-editor.org/rfc/rfc8936)) |
//! | [`ResourceMetadata`](Endpoint::ResourceMetadata) | `GET /.well-known/oauth-protected-resource` and the audience's path | who issues tokens for this API ([RFC 9728](https://www.rfc-editor.org/rfc/rfc9728)) |
//! | `SignIn` | `POST {prefix}/sign-in` | signing in by password (feature `password`) |
//! | [`OwnSessions`](Endpoint::OwnSessions) | `GET` and `DELETE {prefix}/sessions`, `DELETE {prefix}/sessions/{session}` | the caller's own sessions: listed, all others ended, one ended; to be guarded, `signed-in` |
//! | [`Ticket`](Endpoint::Ticket) | `POST {prefix}/ticket` | a [ticket](crate::Tickets) for a web socket or an event source; to be guarded, `signed-in` |
//!
//! The first four are there unless they are [left out](Endpoints::without), the others if they are [asked for](Endpoints::with). The
//! routes must be `open` in the access plan, since whoever calls them has no access token or an expired one; but for the last two,
//! which are for a caller. Addresses come from
//! what is set up, never from a request.

mod address;
mod browser;
mod call;
mod clients;
mod feed;
mod form;
mod forwarded;
#[cfg(feature = "password")]
mod going;
mod introspect;
mod key_set;
mod metadata;
mod own_reach;
mod own_sessions;
mod patient;
mod reply;
mod revoke;
mod router;
#[cfg(feature = "password")]
mod sign_in;
mod state;
mod throttled;
mod ticket;
mod token;
mod which;

pub use address::{EndpointsError, resource_metadata_address};
pub use browser::Browser;
pub use own_reach::own_reach;
pub use patient::{Patient, PatientIo};
pub use reply::token_reply;
#[cfg(feature = "password")]
pub use sign_in::{Known, NotYet, PasswordSignIn, SignInSoFar};
pub use state::Endpoints;
pub use which::Endpoint;
