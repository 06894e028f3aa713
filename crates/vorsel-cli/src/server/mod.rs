//! The HTTP server of `vorsel serve`: nobody holds a connection for longer than there is a reason for it.

mod body;
mod connections;

use std::future::Future;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::extract::ConnectInfo;
use axum::serve::Listener;
use http::Request;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use hyper_util::server::graceful::GracefulShutdown;
use tokio::net::TcpListener;
use tokio::time::timeout;
use tower::{Service, ServiceExt};
use vorsel::GuardedApp;
use vorsel::endpoints::Patient;

use body::{ByDeadline, Held};
use connections::Connections;

/// How long a client may take, and how many there may be.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Limits {
    /// Connections; at one more, the one that has been idle for longest is closed.
    pub(crate) connections: usize,
    /// For a request's headers, and between two requests.
    pub(crate) headers_within: Duration,
    /// For a request's body, however slowly it comes.
    pub(crate) body_within: Duration,
    /// For what is under way when the server stops.
    pub(crate) last_requests: Duration,
}

/// What of a request's headers is kept while they come.
const LARGEST_HEAD: usize = 32 * 1024;
const MOST_STREAMS: u32 = 64;

/// Serves `app` until `stop` is over, and then what is under way, for a while.
pub(crate) async fn serve(listener: TcpListener, app: GuardedApp, limits: Limits, stop: impl Future<Output = ()>) {
    let mut listener = Patient::new(listener);
    let connections = Connections::new(limits.connections);
    let (graceful, mut stop) = (GracefulShutdown::new(), std::pin::pin!(stop));
    let server = Arc::new(server(limits));
    loop {
        let (io, from) = tokio::select! {
            accepted = listener.accept() => accepted,
            () = &mut stop => break,
        };
        let Some(place) = connections.enter() else { continue };
        let (app, held) = (app.clone(), place.clone());
        let service = service_fn(move |request: Request<Incoming>| {
            let (app, busy) = (app.clone(), held.begin());
            async move {
                let (mut parts, body) = request.into_parts();
                parts.extensions.insert(ConnectInfo::<SocketAddr>(from));
                let body = Body::new(ByDeadline::new(body, limits.body_within));
                let mut app = app;
                let answered = match ServiceExt::<Request<Body>>::ready(&mut app).await {
                    Ok(app) => app.call(Request::from_parts(parts, body)).await,
                    Err(never) => Err(never),
                };
                // It is busy until the last byte of the answer is out.
                answered.map(|response| response.map(|body| Held::new(body, busy)))
            }
        });
        let (server, watcher) = (server.clone(), graceful.watcher());
        tokio::spawn(async move {
            let connection = server.serve_connection(TokioIo::new(io), service).into_owned();
            tokio::select! {
                _ = watcher.watch(connection) => {}
                () = place.gives_way(limits.headers_within) => {}
            }
        });
    }
    drop(listener);
    let _ = timeout(limits.last_requests, graceful.shutdown()).await;
}

fn server(limits: Limits) -> auto::Builder<TokioExecutor> {
    let mut server = auto::Builder::new(TokioExecutor::new());
    server
        .http1()
        .timer(TokioTimer::new())
        .header_read_timeout(limits.headers_within)
        .max_buf_size(LARGEST_HEAD)
        .http2()
        .timer(TokioTimer::new())
        .max_concurrent_streams(MOST_STREAMS)
        .max_header_list_size(LARGEST_HEAD as u32)
        .keep_alive_interval(limits.headers_within)
        .keep_alive_timeout(limits.headers_within);
    server
}
