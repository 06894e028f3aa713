//! Registered clients: what each may ask for, and how it proves who it is.

mod file;
mod secret;

use std::collections::BTreeMap;
use std::error::Error;
use std::fmt;
use std::sync::Arc;

use async_trait::async_trait;
use vorsel_core::{KeySet, Scopes};

pub use file::ClientsFileError;
pub use secret::{ClientSecret, ClientSecretHash, ClientSecretHashError};

/// A client that may ask for tokens ([RFC 6749 section 2](https://www.rfc-editor.org/rfc/rfc6749#section-2)).
///
/// A public client (an app in a browser or on a phone) can't keep a secret and says only its name. A confidential one proves who it is,
/// by a secret that the library has made, or by assertions that it signs
/// ([RFC 7523 section 3](https://www.rfc-editor.org/rfc/rfc7523#section-3)).
///
/// ```
/// use vorsel::{Client, ClientGrant, ClientSecret, Scopes};
///
/// let desk = Client::public("desk").scopes(Scopes::parse("exposures:read logs:read")?);
/// let secret = ClientSecret::generate()?;
/// let dome = Client::with_secret("dome-controller", secret.hash()).grants([ClientGrant::ClientCredentials]);
/// assert!(desk.is_public() && !dome.is_public());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct Client {
    id: String,
    proof: ClientProof,
    grants: Vec<ClientGrant>,
    scopes: Scopes,
    audiences: Vec<String>,
    may_introspect: bool,
    may_follow: bool,
}

/// How a client proves who it is.
#[derive(Clone)]
pub(crate) enum ClientProof {
    /// It can't.
    None,
    /// By one of these secrets; two while one is changed for another.
    Secrets(Vec<ClientSecretHash>),
    /// By what it signs with one of these keys.
    Keys(KeySet),
}

/// What a client may have tokens for.
///
/// ```
/// use vorsel::{Client, ClientGrant};
///
/// let desk = Client::public("desk");
/// assert!(desk.has_grant(ClientGrant::RefreshToken) && !desk.has_grant(ClientGrant::ClientCredentials));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ClientGrant {
    /// People sign in through it, and it renews their sessions
    /// ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)).
    RefreshToken,
    /// It acts for itself ([RFC 6749 section 4.4](https://www.rfc-editor.org/rfc/rfc6749#section-4.4)).
    ClientCredentials,
}

impl ClientGrant {
    /// Its name in a request, `grant_type`.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::RefreshToken => "refresh_token",
            Self::ClientCredentials => "client_credentials",
        }
    }
}

impl Client {
    /// How many secrets a client may have at once: one, and the one it is changed for.
    pub const MOST_SECRETS: usize = 2;

    fn new(id: String, proof: ClientProof) -> Self {
        let grants = vec![ClientGrant::RefreshToken];
        let scopes = Scopes::default();
        Self { id, proof, grants, scopes, audiences: Vec::new(), may_introspect: false, may_follow: false }
    }

    /// A client that can't keep a secret. People sign in through it; it has no scopes unless they are [said](Self::scopes).
    #[must_use]
    pub fn public(id: impl Into<String>) -> Self {
        Self::new(id.into(), ClientProof::None)
    }

    /// A client that shows a secret.
    #[must_use]
    pub fn with_secret(id: impl Into<String>, hash: ClientSecretHash) -> Self {
        Self::new(id.into(), ClientProof::Secrets(vec![hash]))
    }

    /// A client that signs assertions with one of these keys.
    #[must_use]
    pub fn with_keys(id: impl Into<String>, keys: KeySet) -> Self {
        Self::new(id.into(), ClientProof::Keys(keys))
    }

    /// Takes another secret as well, while the first one is being replaced.
    #[must_use]
    pub fn or_secret(mut self, hash: ClientSecretHash) -> Self {
        if let ClientProof::Secrets(hashes) = &mut self.proof {
            hashes.push(hash);
        }
        self
    }

    /// What it may have tokens for, in place of the refresh of people's sessions alone.
    #[must_use]
    pub fn grants(mut self, grants: impl IntoIterator<Item = ClientGrant>) -> Self {
        self.grants = grants.into_iter().collect();
        self
    }

    /// The scopes it may have at most; none if nothing is said.
    #[must_use]
    pub fn scopes(mut self, scopes: Scopes) -> Self {
        self.scopes = scopes;
        self
    }

    /// Another audience that it may ask tokens for by `resource` ([RFC 8707](https://www.rfc-editor.org/rfc/rfc8707)), and whose tokens
    /// it may introspect.
    #[must_use]
    pub fn audience(mut self, audience: impl Into<String>) -> Self {
        self.audiences.push(audience.into());
        self
    }

    /// Lets it ask what tokens are worth ([RFC 7662](https://www.rfc-editor.org/rfc/rfc7662)).
    #[must_use]
    pub const fn may_introspect(mut self) -> Self {
        self.may_introspect = true;
        self
    }

    /// Lets it follow what is revoked.
    #[must_use]
    pub const fn may_follow(mut self) -> Self {
        self.may_follow = true;
        self
    }

    /// Its name, `client_id`.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Whether it can't prove who it is.
    #[must_use]
    pub const fn is_public(&self) -> bool {
        matches!(self.proof, ClientProof::None)
    }

    /// Whether it may have tokens for this.
    #[must_use]
    pub fn has_grant(&self, grant: ClientGrant) -> bool {
        self.grants.contains(&grant)
    }

    /// The scopes it may have at most.
    #[must_use]
    pub const fn most_scopes(&self) -> &Scopes {
        &self.scopes
    }

    /// Whether it may have tokens for this audience, or ask about them, besides the issuer's own.
    #[must_use]
    pub fn has_audience(&self, audience: &str) -> bool {
        self.audiences.iter().any(|known| known == audience)
    }

    /// Whether it may ask what tokens are worth.
    #[must_use]
    pub const fn introspects(&self) -> bool {
        self.may_introspect
    }

    /// Whether it may follow what is revoked.
    #[must_use]
    pub const fn follows(&self) -> bool {
        self.may_follow
    }

    #[cfg(feature = "axum")]
    pub(crate) const fn proof(&self) -> &ClientProof {
        &self.proof
    }

    /// What is wrong with it, if anything.
    fn mistake(&self) -> Option<String> {
        let Self { id, proof, grants, may_introspect, may_follow, .. } = self;
        let is_visible = !id.is_empty() && id.bytes().all(|byte| matches!(byte, 0x20..=0x7e));
        if !is_visible {
            return Some(format!(
                "expected a client's name of visible ASCII (RFC 6749 appendix A.1), but found {id:?}"
            ));
        }
        let problem = match proof {
            ClientProof::None if *may_introspect || *may_follow => {
                "may introspect or follow, which only a client that proves who it is may"
            }
            ClientProof::None if grants.contains(&ClientGrant::ClientCredentials) => {
                "may act for itself, which only a client that proves who it is may (RFC 6749 section 4.4)"
            }
            ClientProof::Secrets(hashes) if hashes.is_empty() || hashes.len() > Self::MOST_SECRETS => {
                "has no secret, or more than two"
            }
            ClientProof::Keys(keys) if keys.keys().iter().any(|key| key.algorithm().is_symmetric()) => {
                "has a key that is a secret; expected public keys"
            }
            ClientProof::Keys(keys) if keys.keys().is_empty() => "has no key",
            _ => return None,
        };
        Some(format!("the client {id:?} {problem}"))
    }
}

impl fmt::Debug for Client {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { id, grants, scopes, audiences, .. } = self;
        f.debug_struct("Client")
            .field("id", id)
            .field("is_public", &self.is_public())
            .field("grants", grants)
            .field("scopes", scopes)
            .field("audiences", audiences)
            .finish_non_exhaustive()
    }
}

/// The app's look-up of clients, where they are not a list.
///
/// ```
/// use std::error::Error;
/// use async_trait::async_trait;
/// use vorsel::{Client, Clients, FindClient};
///
/// struct Table;
///
/// #[async_trait]
/// impl FindClient for Table {
///     async fn find(&self, client_id: &str) -> Result<Option<Client>, Box<dyn Error + Send + Sync>> {
///         Ok((client_id == "desk").then(|| Client::public("desk")))
///     }
/// }
/// let clients = Clients::looked_up(Table);
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` looks up no clients",
    note = "implement FindClient for it: given a client's name it says what the client may do, or nothing"
)]
#[async_trait]
pub trait FindClient: Send + Sync {
    /// The client of this name, which a stranger has sent.
    ///
    /// # Errors
    /// If it cannot be told now; then the client may try again.
    async fn find(&self, client_id: &str) -> Result<Option<Client>, Box<dyn Error + Send + Sync>>;
}

/// The registered clients: a list, a [file](Self::load), or the app's [look-up](Self::looked_up). Clones share everything.
///
/// ```
/// use vorsel::{Client, Clients, Scopes};
///
/// let clients = Clients::new([Client::public("desk").scopes(Scopes::parse("exposures:read")?)])?;
/// # drop(clients);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone)]
pub struct Clients(Source);

#[derive(Clone)]
enum Source {
    List(Arc<BTreeMap<String, Arc<Client>>>),
    Asked(Arc<dyn FindClient>),
}

/// What is wrong with a list of clients: every mistake at once, a line for each.
///
/// ```
/// use vorsel::{Client, Clients};
///
/// let error = Clients::new([Client::public("desk"), Client::public("desk")]).unwrap_err();
/// assert_eq!(error.problems().len(), 1, "{error}");
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", .problems.join("\n"))]
pub struct ClientsError {
    problems: Vec<String>,
}

vorsel_core::readable_debug!(ClientsError);

impl ClientsError {
    /// Each mistake.
    #[must_use]
    pub fn problems(&self) -> &[String] {
        &self.problems
    }
}

impl Clients {
    /// These clients and no others.
    ///
    /// # Errors
    /// If two have one name, a name is not visible ASCII, or a client may do what only one that proves who it is may.
    pub fn new(clients: impl IntoIterator<Item = Client>) -> Result<Self, ClientsError> {
        let (mut list, mut problems) = (BTreeMap::new(), Vec::new());
        for client in clients {
            problems.extend(client.mistake());
            if let Some(other) = list.insert(client.id.clone(), Arc::new(client)) {
                problems.push(format!("the client {:?} is there twice", other.id));
            }
        }
        if problems.is_empty() { Ok(Self(Source::List(Arc::new(list)))) } else { Err(ClientsError { problems }) }
    }

    /// The clients that the app knows, looked up at each request.
    #[must_use]
    pub fn looked_up(by: impl FindClient + 'static) -> Self {
        Self(Source::Asked(Arc::new(by)))
    }

    /// The client of this name. What the app has looked up is held against the same rules as a list.
    ///
    /// # Errors
    /// If the app can't tell, or what it says breaks a rule.
    pub async fn find(&self, client_id: &str) -> Result<Option<Arc<Client>>, Box<dyn Error + Send + Sync>> {
        match &self.0 {
            Source::List(list) => Ok(list.get(client_id).cloned()),
            Source::Asked(by) => match by.find(client_id).await? {
                Some(client) if client.id != client_id => {
                    Err(format!("asked for the client {client_id:?}, the app has found {:?}", client.id).into())
                }
                Some(client) => match client.mistake() {
                    Some(problem) => Err(problem.into()),
                    None => Ok(Some(Arc::new(client))),
                },
                None => Ok(None),
            },
        }
    }
}

impl fmt::Debug for Clients {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Source::List(list) => f.debug_set().entries(list.values()).finish(),
            Source::Asked(_) => f.write_str("Clients(looked up)"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_that_gives_a_client_too_much_is_refused_with_every_mistake() {
        let hash = ClientSecretHash::of("x");
        let error = Clients::new([
            Client::public("desk"),
            Client::public("desk"),
            Client::public(""),
            Client::public("dome\n"),
            Client::public("a").may_introspect(),
            Client::public("b").may_follow(),
            Client::public("c").grants([ClientGrant::ClientCredentials]),
            Client::with_secret("d", hash).or_secret(hash).or_secret(hash),
            Client::with_keys("e", KeySet::new([])),
        ]);
        let problems = error.expect_err("mistakes").problems().to_vec();
        assert_eq!(problems.len(), 8, "{problems:#?}");
        let good = [Client::public("desk"), Client::with_secret("dome controller", hash).or_secret(hash).may_follow()];
        assert!(Clients::new(good).is_ok());
        assert!(Clients::new([]).is_ok(), "nobody");
    }

    #[tokio::test]
    async fn what_is_looked_up_is_held_against_the_same_rules() {
        struct Book(Option<Client>);
        #[async_trait]
        impl FindClient for Book {
            async fn find(&self, _: &str) -> Result<Option<Client>, Box<dyn Error + Send + Sync>> {
                Ok(self.0.clone())
            }
        }
        let find = async |client| Clients::looked_up(Book(client)).find("desk").await.map(|found| found.is_some());
        assert!(find(Some(Client::public("desk"))).await.expect("a client"));
        assert!(!find(None).await.expect("nobody"));
        assert!(find(Some(Client::public("Desk"))).await.is_err());
        assert!(find(Some(Client::public("desk").may_introspect())).await.is_err());
    }
}
