//! Tokens in a file that only its owner can read.

use std::error::Error;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use async_trait::async_trait;
use tokio::task::spawn_blocking;

use super::kept::{KeptTokens, TokenPlace};

/// A file with a pair of tokens, as JSON. It is written anew and then put in the place of the old one, so that a crash leaves one of both.
///
/// ```
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{TokenFile, TokenPlace};
///
/// let file = TokenFile::at("tokens.json"); // its owner's alone to read
/// let kept = file.load().await.map_err(|error| error.to_string())?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct TokenFile(PathBuf);

impl TokenFile {
    /// The file at this path. It need not be there yet; its folder has to be.
    pub fn at(path: impl Into<PathBuf>) -> Self {
        Self(path.into())
    }
}

#[async_trait]
impl TokenPlace for TokenFile {
    async fn load(&self) -> Result<Option<KeptTokens>, Box<dyn Error + Send + Sync>> {
        let path = self.0.clone();
        spawn_blocking(move || read(&path)).await?
    }

    async fn keep(&self, tokens: Option<&KeptTokens>) -> Result<(), Box<dyn Error + Send + Sync>> {
        let (path, text) = (self.0.clone(), tokens.map(serde_json::to_vec).transpose()?);
        spawn_blocking(move || match text {
            Some(text) => write(&path, &text),
            None => match fs::remove_file(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
                _ => Ok(()),
            },
        })
        .await??;
        Ok(())
    }
}

fn read(path: &Path) -> Result<Option<KeptTokens>, Box<dyn Error + Send + Sync>> {
    let text = match fs::read(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        text => text?,
    };
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(path)?.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(
                format!("expected a file for its owner alone (600), but found {mode:o}: {}", path.display()).into()
            );
        }
    }
    let wrong =
        |error| format!("expected the tokens that were kept there, but found other text: {error}: {}", path.display());
    Ok(Some(serde_json::from_slice(&text).map_err(wrong)?))
}

fn write(path: &Path, text: &[u8]) -> io::Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".new");
    // One that a crash has left, or that somebody has put there for us to follow: it is not written to.
    drop(fs::remove_file(&beside));
    let mut options = fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let mut file = options.open(&beside)?;
    file.write_all(text)?;
    file.sync_all()?;
    fs::rename(&beside, path)
}
