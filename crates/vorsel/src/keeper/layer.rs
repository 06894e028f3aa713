//! The keeper around a tower service that sends requests.

use std::fmt;
use std::future::Future;
use std::mem;
use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use http::header::AUTHORIZATION;
use http::{HeaderValue, Request, Response};
use http_body_util::{Empty, Full};
use tower_layer::Layer;
use tower_service::Service;

use super::error::{KeeperError, SendError, refused, says_invalid_token};
use super::flight::TokenKeeper;

/// A body that can be sent once more, or can't.
///
/// ```
/// use vorsel::RepeatBody;
///
/// assert_eq!("a log entry".to_owned().repeat().as_deref(), Some("a log entry"));
/// ```
pub trait RepeatBody: Sized {
    /// The same body again; nothing if it was a stream.
    fn repeat(&self) -> Option<Self>;
}

macro_rules! repeat_by_clone {
    ($($body:ty),*) => {
        $(impl RepeatBody for $body {
            fn repeat(&self) -> Option<Self> {
                Some(self.clone())
            }
        })*
    };
}

repeat_by_clone!((), String, Bytes, Full<Bytes>, Empty<Bytes>);

impl RepeatBody for reqwest::Body {
    fn repeat(&self) -> Option<Self> {
        self.as_bytes().map(|bytes| Self::from(bytes.to_vec()))
    }
}

/// Puts a [`TokenKeeper`] around a service that sends requests: each goes out with the access token, and is repeated once after a renewal if the
/// answer is 401 with `invalid_token`.
///
/// ```
/// # async fn example(keeper: vorsel::TokenKeeper) -> Result<(), Box<dyn std::error::Error>> {
/// use tower::{Layer, service_fn};
/// use vorsel::KeeperLayer;
///
/// let send = service_fn(async |request: http::Request<String>| {
///     let has_token = request.headers().contains_key("authorization");
///     Ok::<_, std::io::Error>(http::Response::new(has_token))
/// });
/// let client = KeeperLayer::new(keeper).layer(send);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct KeeperLayer(TokenKeeper);

impl KeeperLayer {
    /// Requests go out with this keeper's tokens.
    pub const fn new(keeper: TokenKeeper) -> Self {
        Self(keeper)
    }
}

impl<S> Layer<S> for KeeperLayer {
    type Service = Keeping<S>;

    fn layer(&self, inner: S) -> Keeping<S> {
        Keeping { inner, keeper: self.0.clone() }
    }
}

/// A service whose requests go out with a keeper's tokens.
///
/// ```
/// # async fn example(keeper: vorsel::TokenKeeper) -> Result<(), Box<dyn std::error::Error>> {
/// # use tower::{Layer, service_fn};
/// use vorsel::{KeeperLayer, Keeping};
///
/// let send = service_fn(async |_: http::Request<String>| Ok::<_, std::io::Error>(http::Response::new(())));
/// let client: Keeping<_> = KeeperLayer::new(keeper).layer(send);
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Keeping<S> {
    inner: S,
    keeper: TokenKeeper,
}

impl<S: fmt::Debug> fmt::Debug for Keeping<S> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Keeping").field("inner", &self.inner).field("keeper", &self.keeper).finish()
    }
}

impl<S, B, R> Service<Request<B>> for Keeping<S>
where
    S: Service<Request<B>, Response = Response<R>> + Clone + Send + 'static,
    S::Future: Send,
    S::Error: Send,
    B: RepeatBody + Send + 'static,
    R: Send + 'static,
{
    type Response = Response<R>;
    type Error = SendError<S::Error>;
    type Future = Pin<Box<dyn Future<Output = Result<Response<R>, SendError<S::Error>>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        self.inner.poll_ready(context).map_err(SendError::Failed)
    }

    fn call(&mut self, request: Request<B>) -> Self::Future {
        // The one that was found ready goes along; a clone stays.
        let clone = self.inner.clone();
        let (inner, keeper) = (mem::replace(&mut self.inner, clone), self.keeper.clone());
        Box::pin(sent(inner, keeper, request))
    }
}

async fn sent<S, B, R>(
    mut service: S,
    keeper: TokenKeeper,
    mut request: Request<B>,
) -> Result<Response<R>, SendError<S::Error>>
where
    S: Service<Request<B>, Response = Response<R>>,
    B: RepeatBody,
{
    let token = keeper.token().await?;
    let again = copied(&request);
    authorise(&mut request, &token)?;
    let response = service.call(request).await.map_err(SendError::Failed)?;
    let Some(challenge) = refused(response.status(), response.headers()) else { return Ok(response) };
    if !says_invalid_token(&challenge) {
        return Err(SendError::Unauthorized { challenge });
    }
    let fresh = keeper.instead_of(&token).await?;
    let mut again = again.ok_or(SendError::NotRepeated)?;
    authorise(&mut again, &fresh)?;
    std::future::poll_fn(|context| service.poll_ready(context)).await.map_err(SendError::Failed)?;
    let response = service.call(again).await.map_err(SendError::Failed)?;
    match refused(response.status(), response.headers()) {
        None => Ok(response),
        Some(challenge) => {
            keeper.refused_again();
            Err(SendError::Unauthorized { challenge })
        }
    }
}

fn copied<B: RepeatBody>(request: &Request<B>) -> Option<Request<B>> {
    let mut copy = Request::new(request.body().repeat()?);
    *copy.method_mut() = request.method().clone();
    *copy.uri_mut() = request.uri().clone();
    *copy.version_mut() = request.version();
    *copy.headers_mut() = request.headers().clone();
    *copy.extensions_mut() = request.extensions().clone();
    Some(copy)
}

fn authorise<B>(request: &mut Request<B>, token: &str) -> Result<(), KeeperError> {
    let value = HeaderValue::try_from(format!("Bearer {token}"));
    let mut value = value.map_err(|_| KeeperError::Garbled { found: "a token that no header can have".to_owned() })?;
    value.set_sensitive(true);
    request.headers_mut().insert(AUTHORIZATION, value);
    Ok(())
}
