//! Benchmarks: each figure beside a baseline of the same run, on a PostgreSQL that keeps every
//! commit. Writes `target/bench/summary.json`; run by `make bench`.
//!
//! A figure says little on a shared machine, the ratio to its baseline much more.

mod awaiting;
mod connecting;
mod hands;
mod intake;
mod jobs;
mod latency;
mod lean;
mod matching;
mod neighbours;
mod reading;
mod rehearsal;
mod settling;
mod stage;
mod summary;

use stage::Stage;
use std::{error::Error, process::ExitCode};

/// As in the program that is measured.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What a benchmark may fail with.
pub type Fallible<T> = Result<T, Box<dyn Error>>;

fn main() -> ExitCode {
    let measured =
        tokio::runtime::Runtime::new().map_err(Into::into).and_then(|r| r.block_on(measure()));
    match measured {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("the benchmarks ended early: {e}");
            ExitCode::FAILURE
        }
    }
}

/// All of it, or the parts that are named: `rules`, `connect`, `hands`, `fleet`, `runners`,
/// `intake`, `storm`, `latency`, `jobs`, `await`, `neighbours` or one of its figures, `rehearsal`,
/// `reading`.
async fn measure() -> Fallible<()> {
    let mut figures = Vec::new();
    let ended = parts(&mut figures).await;
    // What was measured before something went wrong is not lost.
    summary::write(&figures)?;
    ended
}

async fn parts(figures: &mut Vec<summary::Figure>) -> Fallible<()> {
    let named: Vec<String> = std::env::args().skip(1).collect();
    let asked = |part: &str| named.is_empty() || named.iter().any(|n| n == part);
    if asked("rules") {
        figures.extend(matching::figures()?);
        figures.push(settling::per_second()?);
    }
    if asked("connect") {
        figures.extend(connecting::figures().await?);
    }
    if asked("hands") {
        figures.push(hands::figure().await?);
    }
    // The rest is measured at a node.
    let without_node = ["rules", "connect", "hands"];
    if !named.is_empty() && named.iter().all(|part| without_node.contains(&part.as_str())) {
        return Ok(());
    }
    let mut stage = Stage::start().await?;
    // First: the most memory is that of the node's whole life.
    if asked("fleet") {
        figures.extend(hands::many(&stage).await?);
    }
    if asked("runners") {
        figures.push(hands::overhead(&stage).await?);
    }
    let mut empty = None;
    if asked("intake") {
        let (plain, rates) = intake::plain(&stage).await?;
        figures.extend(plain);
        figures.extend(intake::ruled(&stage, &rates).await?);
        figures.push(intake::gathered(&stage).await?);
        empty = Some(rates.batches);
    }
    if asked("storm") {
        figures.extend(intake::storm(&stage).await?);
    }
    if asked("latency") {
        figures.extend(latency::first_call(&stage).await?);
    }
    if asked("jobs") {
        figures.extend(jobs::figures(&stage).await?);
    }
    if asked("await") {
        figures.push(awaiting::figure(&stage).await?);
    }
    // All of these or, as each takes its time, some by their names.
    let neighbour = |name: &str| asked("neighbours") || asked(name);
    if neighbours::names().any(neighbour) {
        neighbours::measure(&stage, neighbour, figures).await?;
    }
    if asked("rehearsal") {
        figures.push(rehearsal::over_a_million(&stage).await?);
    }
    if asked("reading") {
        let empty = match empty {
            Some(rate) => rate,
            None => intake::batch_rate(&stage, "empty").await?,
        };
        figures.extend(reading::figures(&stage, empty).await?);
    }
    stage.stop();
    Ok(())
}
