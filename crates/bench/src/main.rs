//! Benchmarks: each figure beside a baseline of the same run, on a PostgreSQL that keeps every
//! commit. Writes `target/bench/summary.json`; run by `make bench`.
//!
//! A figure says little on a shared machine, the ratio to its baseline much more.

mod intake;
mod latency;
mod stage;
mod summary;

use stage::Stage;
use std::{error::Error, process::ExitCode};

/// What a benchmark may fail with.
pub type Fallible<T> = Result<T, Box<dyn Error>>;

fn main() -> ExitCode {
    let measured = tokio::runtime::Runtime::new().map_err(Into::into).and_then(|r| r.block_on(measure()));
    match measured {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("the benchmarks ended early: {e}");
            ExitCode::FAILURE
        }
    }
}

async fn measure() -> Fallible<()> {
    let mut stage = Stage::start().await?;
    let mut figures = vec![intake::batches(&stage).await?, intake::singles(&stage).await?];
    figures.extend(latency::first_call(&stage).await?);
    stage.stop();
    summary::write(&figures)
}
