//! Reading an access plan from its file.

use std::io;
use std::path::{Path, PathBuf};

use vorsel_core::{AccessPlan, PlanError};

/// Why there is no access plan: an app without one does not start.
///
/// ```
/// let error = vorsel::load_plan("nowhere.toml").unwrap_err();
/// assert_eq!(error.to_string(), "cannot read the access plan nowhere.toml");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum PlanFileError {
    /// The file cannot be read.
    #[error("cannot read the access plan {}", path.display())]
    Read {
        /// The file.
        path: PathBuf,
        /// Why not.
        source: io::Error,
    },
    /// The plan has mistakes; the message has a line for each.
    #[error(transparent)]
    Plan(#[from] PlanError),
}

vorsel_core::readable_debug!(PlanFileError);

/// Reads an `access.toml`. For a plan that is partly written in Rust see [`PlanBuilder::read`](crate::PlanBuilder::read).
///
/// # Errors
/// If the file cannot be read, and for every mistake in it at once, with its line and column.
pub fn load_plan(path: impl AsRef<Path>) -> Result<AccessPlan, PlanFileError> {
    let path = path.as_ref();
    let text = std::fs::read_to_string(path).map_err(|source| PlanFileError::Read { path: path.to_owned(), source })?;
    Ok(AccessPlan::read(&text, &path.display().to_string())?)
}
