//! Writes what sources send every few seconds. Who dies before has lost these seconds of statistics
//! and nothing else.

use crate::{clock, node::Node};
use arvok_store::{Class, shapes};
use std::{sync::Arc, time::Duration};

/// Time between two writes.
const WRITE: Duration = Duration::from_secs(5);

/// Writes what is gathered until the node stops, and then the rest.
pub(crate) async fn run(node: Arc<Node>) {
    let mut stopping = node.stopping.clone();
    let mut tick = tokio::time::interval(WRITE);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut goes_on = true;
    while goes_on {
        tokio::select! {
            _ = stopping.changed() => goes_on = false,
            _ = tick.tick() => {}
        }
        write(&node).await;
    }
}

async fn write(node: &Node) {
    let begun = clock::now();
    loop {
        let shapes = node.shapes.take();
        if shapes.is_empty() {
            return;
        }
        if let Err(e) = shapes::add(&node.pools.work, &shapes).await {
            tracing::warn!("what sources send could not be noted: {e}");
            // What can never be written would keep all behind it from being.
            if e.class() != Class::Lasting {
                node.shapes.give_back(shapes);
            }
            return;
        }
        // What came meanwhile is for the next time.
        if (clock::now() - begun).to_std().is_ok_and(|took| took > WRITE) {
            return;
        }
    }
}
