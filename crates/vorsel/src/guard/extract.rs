//! The caller as an axum extractor.

use axum::extract::{FromRequestParts, OptionalFromRequestParts};
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use http::header::CONTENT_TYPE;
use http::request::Parts;
use vorsel_core::{Refusal, problem};

use super::anonymous::Anonymous;
use super::caller::Caller;
use super::response::response;

/// Why a handler that asks for a [`Caller`] was not run.
///
/// ```
/// use axum::response::IntoResponse;
/// use vorsel::NoCaller;
///
/// let expected = std::any::type_name::<vorsel::NoOwn>();
/// assert_eq!(NoCaller::Unguarded { expected }.into_response().status(), 500);
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NoCaller {
    /// The route is open and the request has no caller: 401. Ask for `Option<Caller<C>>` there.
    #[error("the request has no caller, and the handler asks for one")]
    Anonymous {
        /// The guard's realm.
        realm: String,
        /// Where the metadata of the API lies, if the guard says so.
        resource_metadata: Option<String>,
    },
    /// No guard is around this route, or one that was made for other claims than the handler asks for: 500. Nobody is let
    /// in by a forgotten layer.
    #[error(
        "expected a guard for own claims of type {expected} around this route, but found none, or one for another type; \
         see Routes::guard"
    )]
    Unguarded {
        /// The type the handler asks for.
        expected: &'static str,
    },
}

impl IntoResponse for NoCaller {
    fn into_response(self) -> Response {
        match self {
            Self::Anonymous { realm, resource_metadata } => {
                let answer = Refusal::NoCredential.answer(&realm);
                response(match resource_metadata {
                    Some(address) => answer.with_resource_metadata(&address),
                    None => answer,
                })
                .into_response()
            }
            Self::Unguarded { .. } => {
                tracing::error!(target: "vorsel::guard", "{self}");
                let body = problem(500, "The server is set up wrongly.");
                (StatusCode::INTERNAL_SERVER_ERROR, [(CONTENT_TYPE, "application/problem+json")], body).into_response()
            }
        }
    }
}

fn caller<C: Send + Sync + 'static>(parts: &Parts) -> Result<Option<Caller<C>>, NoCaller> {
    // The innermost guard has the say: a caller that an outer one left behind is not its own.
    if parts.extensions.get::<Anonymous>().is_some() {
        return Ok(None);
    }
    let caller = parts.extensions.get::<Caller<C>>().cloned();
    caller.map(Some).ok_or(NoCaller::Unguarded { expected: std::any::type_name::<C>() })
}

impl<S: Sync, C: Send + Sync + 'static> FromRequestParts<S> for Caller<C> {
    type Rejection = NoCaller;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, NoCaller> {
        let anonymous = || {
            let left = parts.extensions.get::<Anonymous>();
            let realm = left.map_or_else(String::new, |by| by.realm.to_string());
            let resource_metadata = left.and_then(|by| by.resource_metadata.as_deref().map(str::to_owned));
            NoCaller::Anonymous { realm, resource_metadata }
        };
        caller(parts)?.ok_or_else(anonymous)
    }
}

impl<S: Sync, C: Send + Sync + 'static> OptionalFromRequestParts<S> for Caller<C> {
    type Rejection = NoCaller;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Option<Self>, NoCaller> {
        caller(parts)
    }
}
