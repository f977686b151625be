//! What is logged has no secrets: lines are written through a writer that knows them.

use arc_swap::ArcSwap;
use arvok_connect::Redactor;
use std::{
    io::{self, Write},
    sync::{
        Arc, LazyLock,
        atomic::{AtomicU64, Ordering},
    },
};

/// The secrets that were opened last in this process.
static KNOWN: LazyLock<ArcSwap<Redactor>> = LazyLock::new(ArcSwap::default);

/// Lines that could not be written.
static LOST: AtomicU64 = AtomicU64::new(0);

/// How many lines of the log could not be written.
pub(crate) fn lost() -> u64 {
    LOST.load(Ordering::Relaxed)
}

/// Lines of the log are hidden by these secrets from now on.
pub(crate) fn knows(redactor: &Redactor) {
    KNOWN.store(Arc::new(redactor.clone()));
}

/// Writes to standard error, without secrets. Whoever logs writes a line at a time.
#[derive(Clone, Copy, Debug, Default)]
pub struct LogWriter;

impl Write for LogWriter {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(line);
        // Whoever reads the log may be gone, or its disk full: no work stops for that.
        if io::stderr().lock().write_all(KNOWN.load().hidden(&text).as_bytes()).is_err() {
            LOST.fetch_add(1, Ordering::Relaxed);
        }
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
