//! Collects what is logged on a thread.

use std::sync::{Arc, Mutex};

#[derive(Clone, Default)]
pub(crate) struct Lines(Arc<Mutex<Vec<u8>>>);

impl Lines {
    /// Collects what this thread logs until the guard is dropped.
    pub(crate) fn collect(&self) -> tracing::subscriber::DefaultGuard {
        let writer = self.clone();
        let log = tracing_subscriber::fmt().with_ansi(false).without_time().with_writer(move || writer.clone());
        tracing::subscriber::set_default(log.with_max_level(tracing::Level::DEBUG).finish())
    }

    pub(crate) fn text(&self) -> String {
        String::from_utf8(self.0.lock().expect("no panic").clone()).expect("text")
    }
}

impl std::io::Write for Lines {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().expect("no panic").extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
