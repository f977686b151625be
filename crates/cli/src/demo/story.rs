//! What goes on in the yard when the scenes are over.

use super::world::World;
use crate::error::CliError;
use arvok_standins::Faults;
use std::time::Duration;

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
        world.harbour.yard.set_faults(Faults { delay_ms: 400, busy, ..Faults::default() });
        world.harbour.yard.with(|c| c.fill(vm, disk, 87.2, 6.0));
        tokio::time::sleep(Duration::from_secs(22)).await;
        // Now and then somebody switches off a kiosk by accident.
        if round % 4 == 2 {
            world.harbour.yard.with(|c| c.vms.get_mut("oldhithe-kiosk-1").map(|v| v.powered = false));
        }
        // The crew tidies up; a disk at its ceiling is replaced by a new one.
        world.harbour.yard.with(|c| {
            c.fill(vm, disk, 60.0, 0.02);
            let found = c.vms.get_mut(vm).and_then(|v| v.disks.iter_mut().find(|d| d.name == disk));
            if let Some(disk) = found.filter(|d| d.size_gib >= 64.0 && d.name == "data") {
                (disk.size_gib, disk.used_gib) = (40.0, 24.0);
            }
        });
    }
    Ok(())
}
