//! What a session begins with.

/// A sign-in: who, by which client, on which device, and how. The app has checked the password, or whatever proves it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignIn {
    pub(super) subject: String,
    pub(super) client_id: String,
    pub(super) device: Option<String>,
    pub(super) acr: Option<String>,
}

/// A label is for people to read.
const LONGEST_LABEL: usize = 100;

impl SignIn {
    /// The subject signs in by this client.
    #[must_use]
    pub fn new(subject: impl Into<String>, client_id: impl Into<String>) -> Self {
        Self { subject: subject.into(), client_id: client_id.into(), device: None, acr: None }
    }

    /// What the user calls the device. Control characters are left out, and what is beyond 100 characters.
    #[must_use]
    pub fn device(mut self, label: &str) -> Self {
        let label: String = label.chars().filter(|c| !c.is_control()).take(LONGEST_LABEL).collect();
        self.device = Some(label);
        self
    }

    /// How the caller authenticated, `acr`; every access token of the session says so.
    #[must_use]
    pub fn acr(mut self, acr: impl Into<String>) -> Self {
        self.acr = Some(acr.into());
        self
    }
}
