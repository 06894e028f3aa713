//! What a guard is made of.

use std::sync::Arc;

use async_trait::async_trait;
use serde::Serialize;
use vorsel_core::{AccessPlan, Checked};

use super::api_key::{ApiKeyHash, ApiKeyOwner, ApiKeys};
use super::caller::Caller;
use super::credentials::Sources;
use super::predicate::Predicates;
use super::revocation::Gates;
use crate::checker::Checkers;
use crate::clock::Clock;
use crate::meters::Decisions;
use crate::tickets::Tickets;

pub(super) struct Inner<C> {
    pub(super) checkers: Checkers<C>,
    /// The issuer whose subjects are our own people.
    pub(super) issuer: Option<Arc<str>>,
    pub(super) plan: AccessPlan,
    pub(super) sources: Sources,
    pub(super) keys: Option<Arc<dyn LookUp<C>>>,
    pub(super) tickets: Option<Tickets>,
    pub(super) predicates: Predicates<C>,
    pub(super) realm: Arc<str>,
    /// Where it is said who issues tokens for this API.
    pub(super) resource_metadata: Option<Arc<str>>,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) gates: Gates,
    /// Whether every refusal is one of gRPC.
    pub(super) answers_grpc: bool,
    pub(super) decisions: Decisions,
}

/// The look-up of API keys, with the owner's claims made up from what the app says.
#[async_trait]
pub(super) trait LookUp<C>: Send + Sync {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>>;
}

#[async_trait]
impl<C: Serialize + Send + Sync + 'static, K: ApiKeys<C>> LookUp<C> for K {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>> {
        let owner = ApiKeys::owner(self, hash).await?;
        Ok(owner.map(ApiKeyOwner::vouched).transpose()?)
    }
}

impl<C> Inner<C> {
    /// The issuer whose names a token has, if it is not ours; where any issuer will do, nobody can tell.
    pub(super) fn other_issuer<'c>(&self, caller: &'c Caller<C>) -> Option<&'c str> {
        self.issuer.as_ref().and_then(|_| caller.other_issuer())
    }
}
