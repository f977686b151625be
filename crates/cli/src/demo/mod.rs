//! `arvok demo`: the night of the Skerrow Ferries, on this machine alone.
//!
//! [`world`] starts everything and stops it again, [`story`] makes things happen, [`report`]
//! asks the API afterwards whether they went as they should.

mod report;
mod story;
mod world;

use crate::{error::CliError, show, stop::until_stopped};
use std::path::PathBuf;
use world::World;

/// How it is played.
#[derive(Debug)]
pub struct Options {
    /// To the end, and report.
    pub once: bool,
    /// Kill the node in the middle.
    pub kill_node: bool,
    /// The folder of its data.
    pub data: PathBuf,
    /// The node's port, if it is free.
    pub port: u16,
}

/// Plays.
pub async fn run(options: Options) -> Result<(), CliError> {
    let stopped = until_stopped();
    tokio::pin!(stopped);
    let mut world = tokio::select! {
        world = World::start(&options) => world?,
        s = &mut stopped => return s,
    };
    let outcome = tokio::select! {
        outcome = play(&mut world, &options) => outcome,
        s = &mut stopped => s,
    };
    world.stop().await;
    outcome
}

async fn play(world: &mut World, options: &Options) -> Result<(), CliError> {
    eprintln!("arvok: the night begins");
    let scene = story::disk_fills(world, options.kill_node).await?;
    let report = report::of(world, &scene).await?;
    show::out(&report.text);
    if options.once {
        return if report.well { Ok(()) } else { Err(CliError::No) };
    }
    show::out(&format!(
        "\nThe console:  {}\nSign in with: {}\nThe night goes on; Ctrl-C ends it.",
        world.client.address(),
        world.token
    ));
    story::go_on(world).await
}
