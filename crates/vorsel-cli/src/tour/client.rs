//! A caller with a pair of tokens, talking HTTP.

use reqwest::{Client, Method, RequestBuilder, Response};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::failure::Failure;

/// One side of the conversation: where the API is, and the HTTP client.
pub(super) struct Wire {
    base: String,
    client: Client,
    token_endpoint: String,
    revocation_endpoint: String,
}

/// What came back.
pub(super) struct Reply {
    pub(super) status: u16,
    pub(super) body: Value,
}

/// The pair of tokens a caller holds.
#[derive(Clone, Deserialize)]
pub(super) struct Tokens {
    pub(super) access_token: String,
    pub(super) refresh_token: String,
}

impl Reply {
    pub(super) fn tokens(&self) -> Option<Tokens> {
        Tokens::deserialize(&self.body).ok()
    }
}

impl Wire {
    /// Finds the endpoints through the metadata.
    pub(super) async fn connect(base: String) -> Result<Self, Failure> {
        let client = Client::builder().no_proxy().build()?;
        let address = format!("{base}/.well-known/oauth-authorization-server");
        let metadata: Value = client.get(address).send().await?.json().await?;
        let endpoint = |name: &str| {
            let address = metadata[name].as_str().map(str::to_owned);
            address.ok_or_else(|| Failure::new(format!("the metadata lacks {name}")))
        };
        Ok(Self {
            token_endpoint: endpoint("token_endpoint")?,
            revocation_endpoint: endpoint("revocation_endpoint")?,
            base,
            client,
        })
    }

    /// The same caller, at another service.
    pub(super) fn at(&self, base: String) -> Self {
        let Self { client, token_endpoint, revocation_endpoint, .. } = self;
        let (token_endpoint, revocation_endpoint) = (token_endpoint.clone(), revocation_endpoint.clone());
        Self { base, client: client.clone(), token_endpoint, revocation_endpoint }
    }

    pub(super) fn base(&self) -> &str {
        &self.base
    }

    /// Sends a request of this method and path, with a token or without.
    pub(super) async fn call(&self, request: (&str, &str), token: Option<&str>) -> Result<Reply, Failure> {
        let (method, path) = (Method::from_bytes(request.0.as_bytes())?, request.1);
        let request = self.client.request(method, format!("{}{path}", self.base));
        reply(match token {
            Some(token) => request.bearer_auth(token),
            None => request,
        })
        .await
    }

    pub(super) async fn sign_in(&self, subject: &str) -> Result<Reply, Failure> {
        let password = format!("hill-{subject}");
        let body = json!({ "client_id": "desk", "subject": subject, "password": password });
        reply(self.client.post(format!("{}/sign-in", self.base)).json(&body)).await
    }

    pub(super) async fn renew(&self, refresh_token: &str) -> Result<Reply, Failure> {
        let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", refresh_token)];
        reply(self.client.post(&self.token_endpoint).form(&form)).await
    }

    pub(super) async fn sign_out(&self, refresh_token: &str) -> Result<Reply, Failure> {
        let form = [("token", refresh_token), ("client_id", "desk")];
        reply(self.client.post(&self.revocation_endpoint).form(&form)).await
    }
}

async fn reply(request: RequestBuilder) -> Result<Reply, Failure> {
    let response: Response = request.send().await?;
    let status = response.status().as_u16();
    let body = serde_json::from_slice(&response.bytes().await?).unwrap_or(Value::Null);
    Ok(Reply { status, body })
}
