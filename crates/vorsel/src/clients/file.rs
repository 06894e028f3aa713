//! Clients in a TOML file.

use std::path::{Path, PathBuf};

use serde::Deserialize;
use vorsel_core::{KeySet, Scopes};

use super::{Client, ClientGrant, ClientProof, ClientSecretHash, Clients, ClientsError};

/// Why a file of clients cannot be used.
///
/// ```
/// use std::path::Path;
/// use vorsel::Clients;
///
/// let text = "[desk]\npublic = true\nsecret_hashes = []\n";
/// let error = Clients::read(text, Path::new("clients.toml")).unwrap_err();
/// println!("{error}");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum ClientsFileError {
    /// It can't be read.
    #[error("{} cannot be read", .path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// It is not what such a file looks like; the cause has line and column.
    #[error("{name} is no file of clients")]
    Form {
        /// What the text is called.
        name: String,
        /// What is wrong, and where.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// A client in it is wrong.
    #[error("{name}: {problem}")]
    Client {
        /// What the text is called.
        name: String,
        /// Which one, and what is wrong.
        problem: String,
    },
    /// A client has more than it may.
    #[error("{name}: {problems}")]
    Clients {
        /// What the text is called.
        name: String,
        /// What is wrong.
        problems: ClientsError,
    },
}

vorsel_core::readable_debug!(ClientsFileError);

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    clients: Vec<Written>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    id: String,
    #[serde(default)]
    public: bool,
    #[serde(default)]
    secret_hashes: Vec<String>,
    keys: Option<PathBuf>,
    #[serde(default)]
    grants: Option<Vec<WrittenGrant>>,
    #[serde(default)]
    scopes: Vec<String>,
    #[serde(default)]
    audiences: Vec<String>,
    #[serde(default)]
    introspect: bool,
    #[serde(default)]
    follow: bool,
}

#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "snake_case")]
enum WrittenGrant {
    RefreshToken,
    ClientCredentials,
}

impl Clients {
    /// The clients in a TOML file:
    ///
    /// ```toml
    /// [[clients]]
    /// id = "desk"
    /// public = true                               # or secret_hashes, or keys: a file with a JWK Set
    /// scopes = ["exposures:read", "logs:read"]    # at most these; none if nothing is said
    ///
    /// [[clients]]
    /// id = "dome-controller"
    /// secret_hashes = ["sha256:47DEQpj8HBSa-_TImW-5JCeuQeRkm5NMpJWZG3hSuFU"] # as `vorsel keys client-secret` prints them
    /// grants = ["client_credentials"]             # ["refresh_token"] if nothing is said
    /// introspect = true
    /// ```
    ///
    /// # Errors
    /// If the file can't be read or is wrong.
    pub fn load(file: impl AsRef<Path>) -> Result<Self, ClientsFileError> {
        let path = file.as_ref();
        let text = std::fs::read_to_string(path).map_err(|source| unread(path, source))?;
        Self::read(&text, path)
    }

    /// [`load`](Self::load) of a text; `file` is what it is called, and where files that it names lie.
    ///
    /// # Errors
    /// If it is wrong, or a file that it names can't be read.
    pub fn read(text: &str, file: &Path) -> Result<Self, ClientsFileError> {
        let name = file.display().to_string();
        let form = |source| ClientsFileError::Form { name: name.clone(), source };
        let File { clients } = toml_edit::de::from_str(text).map_err(|error| form(error.into()))?;
        let folder = file.parent().unwrap_or(Path::new(""));
        let clients: Result<Vec<_>, _> = clients.into_iter().map(|client| client.client(folder, &name)).collect();
        Self::new(clients?).map_err(|problems| ClientsFileError::Clients { name, problems })
    }
}

impl Written {
    fn client(self, folder: &Path, name: &str) -> Result<Client, ClientsFileError> {
        let id = self.id.clone();
        let wrong = |problem: String| ClientsFileError::Client {
            name: name.to_owned(),
            problem: format!("the client {id:?}: {problem}"),
        };
        let proof = match (self.public, self.secret_hashes.is_empty(), self.keys) {
            (true, true, None) => ClientProof::None,
            (false, false, None) => {
                let hashes = self.secret_hashes.iter().map(|hash| hash.parse::<ClientSecretHash>());
                ClientProof::Secrets(hashes.collect::<Result<_, _>>().map_err(|error| wrong(error.to_string()))?)
            }
            (false, true, Some(keys)) => {
                let path = folder.join(keys);
                let text = std::fs::read_to_string(&path).map_err(|source| unread(&path, source))?;
                let keys = KeySet::read(&text).map_err(|error| wrong(format!("{}: {error}", path.display())))?;
                ClientProof::Keys(keys)
            }
            _ => return Err(wrong("expected one of public = true, secret_hashes and keys".to_owned())),
        };
        let mut client = Client::new(self.id, proof);
        if let Some(grants) = self.grants {
            client = client.grants(grants.into_iter().map(|grant| match grant {
                WrittenGrant::RefreshToken => ClientGrant::RefreshToken,
                WrittenGrant::ClientCredentials => ClientGrant::ClientCredentials,
            }));
        }
        client.scopes = Scopes::of(&self.scopes).map_err(|error| wrong(error.to_string()))?;
        client.audiences = self.audiences;
        (client.may_introspect, client.may_follow) = (self.introspect, self.follow);
        Ok(client)
    }
}

fn unread(path: &Path, source: std::io::Error) -> ClientsFileError {
    ClientsFileError::Io { path: path.to_owned(), source }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::error::Error;

    #[test]
    fn a_file_of_clients_is_read_or_says_what_is_wrong_and_where() {
        let hash = ClientSecretHash::of("x");
        let dome = format!("[[clients]]\nid = \"dome\"\nsecret_hashes = [\"{hash}\"]\n");
        for (text, expected) in [
            (String::new(), ""),
            (format!("{dome}grants = [\"client_credentials\"]\nscopes = [\"dome:move\"]\nintrospect = true"), ""),
            ("[[clients]]\nid = \"desk\"\npublic = true\n".to_owned(), ""),
            ("[[clients]]\nid = \"desk\"\npublic = true\nscope = \"x\"".to_owned(), "line 4"),
            ("[[clients]]\npublic = true\n".to_owned(), "missing field `id`"),
            (format!("{dome}grants = [\"password\"]"), "unknown variant `password`"),
            ("[[clients]]\nid = \"desk\"".to_owned(), "expected one of public = true, secret_hashes and keys"),
            (format!("{dome}public = true"), "expected one of public = true"),
            ("[[clients]]\nid = \"desk\"\nsecret_hashes = [\"x\"]".to_owned(), "\"desk\": expected \"sha256:\""),
            ("[[clients]]\nid = \"desk\"\nkeys = \"missing.json\"".to_owned(), "hill/missing.json cannot be read"),
            (format!("{dome}scopes = [\"a b\\\"\"]"), "expected scopes"),
            ("[[clients]]\nid = \"desk\"\npublic = true\nfollow = true".to_owned(), "only a client that proves"),
            (format!("{dome}{dome}"), "\"dome\" is there twice"),
        ] {
            let said = match Clients::read(&text, Path::new("hill/clients.toml")) {
                Ok(_) => String::new(),
                Err(error) => format!("{error} {}", error.source().map(ToString::to_string).unwrap_or_default()),
            };
            assert!(said.contains(expected) && said.is_empty() == expected.is_empty(), "{text}\n{said}");
        }
    }
}
