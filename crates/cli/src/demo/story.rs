//! What happens in the yard.

use super::world::World;
use crate::error::CliError;
use arvok_api::{JobItem, Page};
use arvok_core::job::JobState;
use arvok_standins::Faults;
use std::time::Duration;

/// What the first scene was about.
pub struct Scene {
    pub vm: &'static str,
    pub disk: &'static str,
    /// GiB before.
    pub size_before: f64,
    /// By how much one step grows it.
    pub step_gib: f64,
}

/// How long the scene may take: after a death of the node its lease must end first.
const PATIENCE: Duration = Duration::from_secs(90);

fn size(world: &World, vm: &str, disk: &str) -> f64 {
    world.yard.with(|c| c.vms.get(vm).and_then(|v| v.disks.iter().find(|d| d.name == disk)).map_or(0.0, |d| d.size_gib))
}

async fn jobs(world: &World) -> Result<Vec<JobItem>, CliError> {
    let page: Page<JobItem> = world.client.get("/api/v1/jobs", &[]).await?;
    Ok(page.items)
}

/// A booking disk fills. The yard's office is slow tonight, so the monitor repeats itself while
/// the job is at work.
pub async fn disk_fills(world: &mut World, kill_node: bool) -> Result<Scene, CliError> {
    let (vm, disk) = ("quill-booking-db-1", "data");
    let scene = Scene { vm, disk, size_before: size(world, vm, disk), step_gib: 4.0 };
    world.yard.set_faults(Faults { delay_ms: 1200, ..Faults::default() });
    world.yard.with(|c| c.fill(vm, disk, 87.3, 4.0));
    let until = tokio::time::Instant::now() + PATIENCE;
    let mut kill = kill_node;
    loop {
        tokio::time::sleep(Duration::from_millis(100)).await;
        let found = jobs(world).await?;
        if kill && found.iter().any(|j| j.state == JobState::Running && j.steps_done >= 1) {
            kill = false;
            world.kill_node().await?;
        }
        let over = found.first().is_some_and(|j| j.finished_at.is_some());
        if over || tokio::time::Instant::now() > until {
            world.yard.set_faults(Faults { delay_ms: 150, ..Faults::default() });
            world.yard.with(|c| c.fill(vm, disk, 79.0, 0.02));
            return Ok(scene);
        }
    }
}

/// Keeps playing, gently: one disk after the other fills; some have a rule that acts, some one
/// that watches, some none; now and then the office refuses.
pub async fn go_on(world: &mut World) -> Result<(), CliError> {
    let scenes = [
        ("quill-report-2", "scratch"),
        ("quill-booking-db-2", "data"),
        ("brack-kiosk-3", "system"),
        ("quill-booking-db-1", "data"),
        ("nessfold-kiosk-1", "system"),
    ];
    for (round, (vm, disk)) in scenes.into_iter().cycle().enumerate() {
        tokio::time::sleep(Duration::from_secs(8)).await;
        let busy = u32::from(round % 3 == 1) * 2;
        world.yard.set_faults(Faults { delay_ms: 400, busy, ..Faults::default() });
        world.yard.with(|c| c.fill(vm, disk, 87.2, 6.0));
        tokio::time::sleep(Duration::from_secs(22)).await;
        // Now and then somebody switches off a kiosk by accident, and on again.
        if round % 4 == 2 {
            world.yard.with(|c| c.vms.get_mut("oldhithe-kiosk-1").map(|v| v.powered = false));
            tokio::time::sleep(Duration::from_secs(6)).await;
            world.yard.with(|c| c.vms.get_mut("oldhithe-kiosk-1").map(|v| v.powered = true));
        }
        // The crew tidies up; a disk at its ceiling is replaced by a new one.
        world.yard.with(|c| {
            c.fill(vm, disk, 60.0, 0.02);
            let found = c.vms.get_mut(vm).and_then(|v| v.disks.iter_mut().find(|d| d.name == disk));
            if let Some(disk) = found.filter(|d| d.size_gib >= 64.0 && d.name == "data") {
                (disk.size_gib, disk.used_gib) = (40.0, 24.0);
            }
        });
    }
    Ok(())
}
