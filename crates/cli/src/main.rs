//! The one binary: the service, the demo, and the command for people and scripts.

mod args;
mod client;
mod commands;
mod demo;
mod error;
mod events;
mod log;
mod login;
mod show;
mod spool;
mod stop;
mod terminal;

use clap::Parser;
use std::process::ExitCode;

/// A third of the intake's time in the node was spent in the system's allocator.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let args = args::Args::parse();
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime,
        Err(e) => return error::report(&error::CliError::Here(format!("cannot start: {e}"))),
    };
    match runtime.block_on(commands::run(args)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => error::report(&e),
    }
}
