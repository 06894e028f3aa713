//! Which store a command works on.

use std::sync::Arc;

use vorsel::store::{SessionStore, StoreAddress, StoreError, StoreOptions};

use crate::failure::Failure;

/// Opens a store that others have made.
pub(crate) async fn open_existing(address: &StoreAddress) -> Result<Arc<dyn SessionStore>, Failure> {
    if address.is_memory() {
        return Err(Failure::new("sessions in memory: are known to their process alone; name another store"));
    }
    // A mistyped path would otherwise become a new, empty file.
    if let Some(path) = address.file().filter(|path| !path.exists()) {
        return Err(Failure::new(format!("expected a file with sessions, but found none at {}", path.display())));
    }
    open(address).await
}

pub(crate) async fn open(address: &StoreAddress) -> Result<Arc<dyn SessionStore>, Failure> {
    let wrong = |error: StoreError| Failure::from(error).while_doing(address.to_string());
    address.open(&StoreOptions::default()).await.map_err(wrong)
}
