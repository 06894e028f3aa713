//! The endpoints over real HTTP.
#![allow(dead_code, reason = "each test uses its part")]

use axum::Router;
use serde_json::Value;
use vorsel::NoOwn;
use vorsel::endpoints::{Endpoints, EndpointsError};

use crate::common::House;

/// A server on a port of its own, and a client of it.
pub(crate) struct Wire {
    pub(crate) base: String,
    pub(crate) http: reqwest::Client,
}

/// An answer.
#[derive(Debug)]
pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) headers: http::HeaderMap,
    pub(crate) body: Value,
}

impl Answer {
    pub(crate) fn header(&self, name: &str) -> &str {
        self.headers.get(name).map_or("", |value| value.to_str().expect("text"))
    }

    /// The code of an error, or nothing.
    pub(crate) fn error(&self) -> &str {
        self.body["error"].as_str().unwrap_or_default()
    }

    pub(crate) fn text(&self, name: &str) -> String {
        self.body[name].as_str().unwrap_or_default().to_owned()
    }
}

impl Wire {
    /// Serves a router that is made for the address at which it is served.
    pub(crate) async fn serve(router: impl FnOnce(&str) -> Router) -> Self {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let base = format!("http://{}", listener.local_addr().expect("an address"));
        let router = router(&base).into_make_service_with_connect_info::<std::net::SocketAddr>();
        tokio::spawn(async move { axum::serve(listener, router).await });
        let http = reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none());
        Self { base, http: http.build().expect("a client") }
    }

    /// The endpoints of a house.
    pub(crate) async fn endpoints(house: &House, change: impl FnOnce(Endpoints<NoOwn>) -> Endpoints<NoOwn>) -> Self {
        let endpoints = |base: &str| change(Endpoints::new(house.sessions.clone(), base)).routes();
        let routes = |base: &str| -> Result<_, EndpointsError> { Ok(endpoints(base)?.into_unguarded_router()) };
        Self::serve(|base| routes(base).expect("endpoints")).await
    }

    pub(crate) fn at(&self, path: &str) -> String {
        format!("{}{path}", self.base)
    }

    pub(crate) async fn send(&self, request: reqwest::RequestBuilder) -> Answer {
        let response = request.send().await.expect("an answer");
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let body = response.bytes().await.expect("a body");
        Answer { status, headers, body: serde_json::from_slice(&body).unwrap_or_default() }
    }

    pub(crate) async fn get(&self, path: &str) -> Answer {
        self.send(self.http.get(self.at(path))).await
    }

    /// Posts a form.
    pub(crate) async fn post(&self, path: &str, form: &[(&str, &str)]) -> Answer {
        self.send(self.http.post(self.at(path)).form(form)).await
    }

    /// Posts a form with a header.
    pub(crate) async fn post_with(&self, path: &str, header: (&str, &str), form: &[(&str, &str)]) -> Answer {
        self.send(self.http.post(self.at(path)).header(header.0, header.1).form(form)).await
    }
}
