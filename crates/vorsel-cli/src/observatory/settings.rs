//! The demo's settings.

use serde::Deserialize;

use crate::failure::Failure;

/// What the demo runs with.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Settings {
    pub(crate) issuer: String,
    pub(crate) audience: String,
    pub(crate) client: String,
    pub(crate) prefix: String,
    pub(crate) access_lifetime: u64,
    pub(crate) retry_window: u64,
    pub(crate) nobody_password: String,
}

impl Settings {
    /// The settings in `demo/settings.toml`, as they were when the command was built.
    pub(crate) fn demo() -> Result<Self, Failure> {
        toml_edit::de::from_str(include_str!("../../../../demo/settings.toml"))
            .map_err(|error| Failure::from(error).while_doing("demo/settings.toml"))
    }
}
