//! Benchmarks: each figure beside a baseline of the same run, on a PostgreSQL that keeps every
//! commit. Writes `target/bench/summary.json`; run by `make bench`.
//!
//! A figure says little on a shared machine, the ratio to its baseline much more.

mod intake;
mod latency;
mod lean;
mod matching;
mod reading;
mod rehearsal;
mod settling;
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
    let mut figures = matching::figures()?;
    figures.push(settling::per_second()?);
    let mut stage = Stage::start().await?;
    let (plain, rates) = intake::plain(&stage).await?;
    figures.extend(plain);
    figures.extend(intake::ruled(&stage, &rates).await?);
    figures.push(intake::gathered(&stage).await?);
    figures.extend(intake::storm(&stage).await?);
    figures.extend(latency::first_call(&stage).await?);
    figures.push(rehearsal::over_a_million(&stage).await?);
    figures.extend(reading::figures(&stage, rates.batches).await?);
    stage.stop();
    summary::write(&figures)
}
