//! One request to a token endpoint, and what came of it.

use std::time::Duration;

use http::StatusCode;
use http::header::RETRY_AFTER;
use reqwest::{Client, Response, Url};
use serde::Deserialize;
use vorsel_core::{Timestamp, with_causes};

use super::error::KeeperError;
use super::kept::KeptTokens;
use crate::outgoing::{self, OwnClient, Unread};

/// A token reply has a few kilobytes.
const LARGEST: usize = 64 * 1024;
/// Where an issuer does not say for how long a token is good.
const UNSAID_LIFETIME: u64 = 60;

/// Whom the issuer knows, and where it is asked.
#[derive(Clone)]
pub(super) struct Endpoint {
    pub(super) url: Url,
    pub(super) client: OwnClient,
    /// For tokens of the client's own.
    pub(super) scopes: Option<String>,
}

#[derive(Deserialize)]
struct Reply {
    access_token: String,
    token_type: String,
    expires_in: Option<u64>,
    refresh_token: Option<String>,
}

#[derive(Deserialize)]
struct Failure {
    error: String,
    error_description: Option<String>,
}

impl Endpoint {
    /// Asks for new tokens: by the refresh token, or for the client itself.
    pub(super) async fn ask(
        &self,
        http: &Client,
        refresh_token: Option<&str>,
        now: Timestamp,
    ) -> Result<KeptTokens, KeeperError> {
        let broken = |reason| KeeperError::Unavailable { reason, retry_after: None };
        let shown = self.client.shown(http.post(self.url.clone()), self.url.as_str());
        let (request, mut form) = shown.map_err(broken)?;
        match refresh_token {
            Some(token) => {
                form.extend([("grant_type", "refresh_token".to_owned()), ("refresh_token", token.to_owned())]);
            }
            None => {
                form.push(("grant_type", "client_credentials".to_owned()));
                form.extend(self.scopes.clone().map(|scopes| ("scope", scopes)));
            }
        }
        let response = request.form(&form).send().await.map_err(unreachable)?;
        read(response, refresh_token, now).await
    }
}

fn unreachable(error: reqwest::Error) -> KeeperError {
    let error = error.without_url();
    KeeperError::Unavailable { reason: with_causes(&error), retry_after: None }
}

async fn read(mut response: Response, refresh_token: Option<&str>, now: Timestamp) -> Result<KeptTokens, KeeperError> {
    let status = response.status();
    let retry_after = response.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.parse().ok());
    let retry_after = retry_after.map(Duration::from_secs);
    let body = outgoing::whole(&mut response, LARGEST).await.map_err(|unread| match unread {
        Unread::Broken(error) => unreachable(error),
        Unread::Large => KeeperError::Garbled { found: format!("more than {LARGEST} bytes") },
    })?;
    let garbled = |found: String| KeeperError::Garbled { found };
    if status == StatusCode::OK {
        let reply: Reply =
            serde_json::from_slice(&body).map_err(|error| garbled(format!("{status} with another body: {error}")))?;
        return tokens(reply, refresh_token, now).map_err(garbled);
    }
    if status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS {
        return Err(KeeperError::Unavailable { reason: format!("it answers {status}"), retry_after });
    }
    let failure: Failure =
        serde_json::from_slice(&body).map_err(|_| garbled(format!("{status} without an error code")))?;
    let Failure { error: code, error_description: description } = failure;
    match code.as_str() {
        "invalid_grant" => Err(KeeperError::SignInAgain { reason: description.unwrap_or(code) }),
        "temporarily_unavailable" => Err(KeeperError::Unavailable { reason: code, retry_after }),
        _ => Err(KeeperError::Refused { code, description }),
    }
}

fn tokens(reply: Reply, refresh_token: Option<&str>, now: Timestamp) -> Result<KeptTokens, String> {
    if !reply.token_type.eq_ignore_ascii_case("bearer") {
        return Err(format!("tokens of the type {:?}", reply.token_type));
    }
    let is_token = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_graphic());
    if !is_token(&reply.access_token) || !reply.refresh_token.as_deref().is_none_or(is_token) {
        return Err("a token with characters that none has".to_owned());
    }
    let kept = KeptTokens::without_refresh(reply.access_token, reply.expires_in.unwrap_or(UNSAID_LIFETIME), now);
    // An issuer that does not rotate says nothing of the refresh token (RFC 6749 section 6).
    let refresh_token = refresh_token.and_then(|old| reply.refresh_token.or_else(|| Some(old.to_owned())));
    Ok(KeptTokens { refresh_token, ..kept })
}
