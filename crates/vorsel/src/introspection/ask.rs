//! One question for however many come with the same token, and what its answer is worth.

use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use http::StatusCode;
use reqwest::Response;
use serde::de::DeserializeOwned;
use tokio::sync::watch;
use vorsel_core::{Checked, Finding, IntrospectedError, Timestamp, with_causes};

use super::answers::{Answer, Answers, Name, name_of};
use super::builder::Introspection;
use crate::checker::{Asked, Asks, NoAnswer};
use crate::meters;
use crate::outgoing::{self, Unread};

/// An answer has a few kilobytes.
const LARGEST: usize = 64 * 1024;

/// An issuer that is asked for callers with claims of this type.
pub(crate) struct Asking<C>(Arc<Inner<C>>);

struct Inner<C> {
    by: Introspection,
    active: Answers<C>,
    /// Apart, so that nobody who makes tokens up has the others forgotten.
    refused: Answers<C>,
    under_way: Mutex<HashMap<Name, watch::Receiver<Option<Outcome<C>>>>>,
}

type Outcome<C> = Result<Answer<C>, String>;

impl<C> Asking<C> {
    pub(crate) fn of(by: Introspection) -> Self {
        let [active, refused] = [(); 2].map(|()| Answers::with_room(by.limits.most));
        Self(Arc::new(Inner { by, active, refused, under_way: Mutex::default() }))
    }
}

impl<C> Inner<C> {
    fn under_way(&self) -> MutexGuard<'_, HashMap<Name, watch::Receiver<Option<Outcome<C>>>>> {
        self.under_way.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Is out of the list when it ends, however that is.
struct UnderWay<C>(Arc<Inner<C>>, Name);

impl<C> Drop for UnderWay<C> {
    fn drop(&mut self) {
        self.0.under_way().remove(&self.1);
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Asks<C> for Asking<C> {
    fn issuer(&self) -> &str {
        &self.0.by.issuer
    }

    fn takes_jwts(&self) -> bool {
        self.0.by.takes_jwts
    }

    fn known(&self, token: &[u8], now: Timestamp) -> Option<Result<Arc<Checked<C>>, Box<Finding>>> {
        let name = name_of(token);
        let known = self.0.active.fresh(&name, now).or_else(|| self.0.refused.fresh(&name, now));
        known.map(settled)
    }

    fn ask(&self, token: &[u8], now: Timestamp) -> Asked<C> {
        let (inner, name) = (self.0.clone(), name_of(token));
        // What no token has (RFC 6750 section 2.1), the issuer need not be asked about.
        let is_token =
            |text: &&str| text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._~+/=".contains(&byte));
        let Some(token) = std::str::from_utf8(token).ok().filter(is_token) else {
            let answer = inner.verdict(br#"{"active":false}"#, now);
            let answer = answer.map_err(NoAnswer::Unanswered).and_then(|it| settled(it).map_err(NoAnswer::Refused));
            return Box::pin(std::future::ready(answer));
        };
        let token = token.to_owned();
        Box::pin(async move {
            let outcome = match inner.clone().question(name, token, now) {
                Some(mut asked) => asked.wait_for(Option::is_some).await.ok().and_then(|outcome| outcome.clone()),
                None => Some(Err("too many questions are under way".to_owned())),
            };
            match outcome.unwrap_or_else(|| Err("the question was broken off".to_owned())) {
                Ok(answer) => settled(answer).map_err(NoAnswer::Refused),
                Err(reason) => match inner.active.usable(&name, now) {
                    Some(answer) => settled(answer).map_err(NoAnswer::Refused),
                    None => Err(NoAnswer::Unanswered(reason)),
                },
            }
        })
    }
}

fn settled<C>(answer: Answer<C>) -> Result<Arc<Checked<C>>, Box<Finding>> {
    match answer {
        Answer::Active(checked) => Ok(checked),
        Answer::Inactive(finding) => Err(finding),
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Inner<C> {
    /// The question that is under way, or a new one; nothing if there are too many.
    fn question(
        self: Arc<Self>,
        name: Name,
        token: String,
        now: Timestamp,
    ) -> Option<watch::Receiver<Option<Outcome<C>>>> {
        let mut under_way = self.under_way();
        if let Some(asked) = under_way.get(&name) {
            return Some(asked.clone());
        }
        if under_way.len() >= self.by.limits.under_way {
            return None;
        }
        let (done, asked) = watch::channel(None);
        under_way.insert(name, asked.clone());
        drop(under_way);
        // On a task of its own: others wait for it as well.
        tokio::spawn(async move {
            let entry = UnderWay(self, name);
            let outcome = entry.0.asked(name, &token, now).await;
            // Whoever comes after the answer goes by what is remembered of it.
            drop(entry);
            done.send_replace(Some(outcome));
        });
        Some(asked)
    }

    async fn asked(&self, name: Name, token: &str, now: Timestamp) -> Outcome<C> {
        let limits = self.by.limits;
        let answer = self.answer(token, now).await;
        let outcome = match &answer {
            Ok(Answer::Active(_)) => "active",
            Ok(Answer::Inactive(_)) => "inactive",
            Err(_) => "failed",
        };
        meters::asked_about(&self.by.issuer, outcome);
        match &answer {
            Ok(Answer::Active(checked)) => {
                let end = checked.claims().expires_at().unwrap_or(now);
                let fresh = now.after(limits.kept).min(end);
                let usable = now.after(limits.kept).after(limits.through_outage).min(end);
                self.active.remember(name, answer.clone()?, fresh, usable);
            }
            Ok(Answer::Inactive(_)) => {
                let until = now.after(limits.refused_kept.min(limits.kept));
                // What was good before is not any more.
                self.active.forget(&name);
                self.refused.remember(name, answer.clone()?, until, until);
            }
            Err(reason) => {
                let issuer = self.by.issuer.as_str();
                tracing::warn!(target: "vorsel::introspection", issuer, "the issuer can't be asked: {reason}");
            }
        }
        answer
    }

    async fn answer(&self, token: &str, now: Timestamp) -> Outcome<C> {
        let by = &self.by;
        let (request, shown) = by.client.shown(by.http.post(by.endpoint.clone()), by.endpoint.as_str())?;
        let mut form = vec![("token", token.to_owned()), ("token_type_hint", "access_token".to_owned())];
        form.extend(shown);
        let request = request.header(http::header::ACCEPT, "application/json").form(&form);
        let response = request.send().await.map_err(|error| with_causes(&error.without_url()))?;
        self.read(response, now).await
    }

    async fn read(&self, mut response: Response, now: Timestamp) -> Outcome<C> {
        let status = response.status();
        if status != StatusCode::OK {
            return Err(format!("expected 200, but found {status}"));
        }
        let body = outgoing::whole(&mut response, LARGEST).await.map_err(|unread| match unread {
            Unread::Broken(error) => with_causes(&error),
            Unread::Large => format!("expected at most {LARGEST} bytes, but found more"),
        })?;
        self.verdict(&body, now)
    }

    fn verdict(&self, body: &[u8], now: Timestamp) -> Outcome<C> {
        match self.by.verifier.check_introspected(body, now) {
            Ok(checked) => Ok(Answer::Active(Arc::new(checked))),
            Err(IntrospectedError::Token(finding)) => Ok(Answer::Inactive(finding)),
            Err(error) => Err(error.to_string()),
        }
    }
}

impl<C> fmt::Debug for Asking<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.by.fmt(f)
    }
}
