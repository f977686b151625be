//! `arvok demo`: the night of the Skerrow Ferries, on this machine alone.
//!
//! [`world`] starts everything and stops it again; each of [`scenes`] makes something happen and
//! asks the API afterwards whether it went as it should; [`story`] goes on from there.

mod real;
mod scenes;
mod story;
mod world;

use crate::{args::Scene, error::CliError, show, stop::until_stopped};
use std::path::PathBuf;
use world::World;

/// How it is played.
#[derive(Debug)]
pub struct Options {
    /// To the end, and report.
    pub once: bool,
    /// One scene alone.
    pub scene: Option<Scene>,
    /// The report as JSON.
    pub json: bool,
    /// Kill the node in the middle.
    pub kill_node: bool,
    /// With servers of this machine.
    pub real: bool,
    /// The folder of its data.
    pub data: PathBuf,
    /// The node's port, if it is free.
    pub port: u16,
}

/// Plays.
pub async fn run(mut options: Options) -> Result<(), CliError> {
    options.real |= options.scene.is_some_and(|scene| Scene::REAL.contains(&scene));
    let stopped = async { until_stopped().await.map(drop) };
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
    let chosen: Vec<Scene> = match options.scene {
        Some(scene) => vec![scene],
        None if options.real => [&Scene::ALL[..], &Scene::REAL].concat(),
        None => Scene::ALL.to_vec(),
    };
    let mut told = Vec::new();
    for scene in chosen {
        let went = scene.play(world, options.kill_node).await?;
        if !options.json {
            let gap = if told.is_empty() { "" } else { "\n" };
            show::out(&format!("{gap}{}", went.text));
        }
        told.push(went);
    }
    if options.json {
        show::json(&told)?;
    }
    if options.once {
        return if told.iter().all(|t| t.well) { Ok(()) } else { Err(CliError::No) };
    }
    show::out(&format!(
        "\nThe console:  {}\nSign in with: {}\nThe night goes on; Ctrl-C ends it.",
        world.client.address(),
        world.token
    ));
    story::go_on(world).await
}
