//! What goes on when the scenes are over: the same things again, gently, one after another, each
//! tidied up before the next.

use super::{scenes, world::World};
use crate::error::CliError;
use arvok_standins::Faults;
use serde_json::{Map, json};
use std::time::Duration;

/// Something that happens.
#[derive(Clone, Copy)]
enum Happening {
    /// A disk of a VM fills.
    DiskFills(&'static str, &'static str),
    /// Somebody switches a kiosk off by accident.
    SwitchedOff,
    /// A kiosk shows what it should not.
    PageWrong,
    /// A kiosk is out of paper until somebody fills it.
    OutOfPaper,
    /// Ticket mails pile up.
    MailsPileUp,
    /// A VM has more work than processors.
    ProcessorsBusy,
    /// New fares are turned on for more, and somebody of the crew agrees.
    FaresRaised,
    /// They fail.
    FaresFail,
    /// A page of the web site, and what stands behind it.
    SiteUnwell,
    /// A worker is taken away.
    WorkerLeaves,
    /// A kiosk is made.
    KioskMade,
    /// A port of the pier is shut down for errors.
    PortDown,
    /// A faulty release: whoever looks at the console may decide.
    ReleaseFails,
}

use Happening::{
    DiskFills, FaresFail, FaresRaised, KioskMade, MailsPileUp, OutOfPaper, PageWrong, PortDown,
    ProcessorsBusy, ReleaseFails, SiteUnwell, SwitchedOff, WorkerLeaves,
};

/// In the order in which they come; of the disks some have a rule that acts, some one that watches,
/// some one that proposes.
const ROUND: [Happening; 17] = [
    DiskFills("quill-report-2", "scratch"),
    PageWrong,
    DiskFills("quill-booking-db-2", "data"),
    MailsPileUp,
    SwitchedOff,
    FaresRaised,
    DiskFills("brack-kiosk-3", "system"),
    ReleaseFails,
    ProcessorsBusy,
    PortDown,
    SiteUnwell,
    DiskFills("quill-booking-db-1", "data"),
    FaresFail,
    WorkerLeaves,
    KioskMade,
    OutOfPaper,
    DiskFills("nessfold-kiosk-1", "system"),
];

/// Before each, and while it lasts.
const QUIET: Duration = Duration::from_secs(8);
const LASTS: Duration = Duration::from_secs(22);

/// Goes on until it is stopped.
pub async fn go_on(world: &World) -> Result<(), CliError> {
    for (n, happening) in ROUND.into_iter().cycle().enumerate() {
        tokio::time::sleep(QUIET).await;
        // Now and then the yard's office refuses twice.
        let busy = u32::from(n % 5 == 2) * 2;
        world.harbour.yard.set_faults(Faults { delay_ms: 400, busy, ..Faults::default() });
        happening.begin(world).await?;
        tokio::time::sleep(LASTS).await;
        happening.tidy(world);
    }
    Ok(())
}

const KIOSK: &str = "oldhithe-kiosk-1";
const NEW_KIOSK: &str = "nessfold-kiosk-2";
const BUSY: &str = "quill-mail-1";
const WORKER: &str = "timetable-worker-7";

impl Happening {
    async fn begin(self, world: &World) -> Result<(), CliError> {
        let harbour = &world.harbour;
        match self {
            DiskFills(vm, disk) => harbour.yard.with(|yard| yard.fill(vm, disk, 87.2, 6.0)),
            SwitchedOff => switch(world, false),
            PageWrong => harbour.kiosks.with(|kiosks| kiosks.break_page(KIOSK)),
            OutOfPaper => paper(world, false),
            MailsPileUp => harbour.queue.with(|queue| queue.pile_up(90.0)),
            ProcessorsBusy => work(world, Some(1.95)),
            FaresRaised => raise(world).await?,
            FaresFail => failing(world, 8),
            SiteUnwell => harbour.site.with(|site| {
                site.spoil_page("prices", "Maintenance");
                site.silence_payments();
            }),
            WorkerLeaves => {
                _ = harbour.cloud.with(|cloud| cloud.reclaim(WORKER, Duration::from_secs(60)));
            }
            PortDown => harbour.switch.with(|switch| {
                let port = switch.ports.get_mut("ge-0/0/7");
                port.into_iter().for_each(|port| port.shut_for_errors = true);
            }),
            KioskMade => harbour.yard.with(|yard| yard.make(NEW_KIOSK, "quill-hv-3")),
            ReleaseFails => scenes::faulty_release(world),
        }
        Ok(())
    }

    /// The crew tidies up.
    fn tidy(self, world: &World) {
        let harbour = &world.harbour;
        match self {
            // A disk at its ceiling is replaced by a new one.
            DiskFills(vm, disk) => harbour.yard.with(|yard| {
                yard.fill(vm, disk, 60.0, 0.02);
                let found =
                    yard.vms.get_mut(vm).and_then(|v| v.disks.iter_mut().find(|d| d.name == disk));
                if let Some(disk) = found.filter(|d| d.size_gib >= 64.0 && d.name == "data") {
                    (disk.size_gib, disk.used_gib) = (40.0, 24.0);
                }
            }),
            SwitchedOff => switch(world, true),
            OutOfPaper => paper(world, true),
            MailsPileUp => harbour.queue.with(arvok_standins::queue::Queue::back_to_one),
            ProcessorsBusy => {
                work(world, None);
                let _ = harbour.yard.with(|yard| yard.set_cpus(BUSY, 2));
            }
            FaresFail => failing(world, 0),
            WorkerLeaves => harbour.cloud.with(|cloud| cloud.bring_back(WORKER)),
            KioskMade => drop(harbour.yard.with(|yard| yard.vms.remove(NEW_KIOSK))),
            PageWrong | FaresRaised | SiteUnwell | ReleaseFails | PortDown => {}
        }
    }
}

fn switch(world: &World, on: bool) {
    world.harbour.yard.with(|yard| yard.vms.get_mut(KIOSK).map(|vm| vm.powered = on));
}

fn paper(world: &World, there: bool) {
    world.harbour.kiosks.with(|all| all.kiosks.get_mut(KIOSK).map(|kiosk| kiosk.paper = there));
}

fn work(world: &World, cpus: Option<f64>) {
    world.harbour.yard.with(|yard| yard.vms.get_mut(BUSY).map(|vm| vm.work = cpus));
}

fn failing(world: &World, percent: u8) {
    world
        .harbour
        .features
        .with(|all| all.get_mut("new-fares").map(|feature| feature.failing_percent = percent));
}

/// The next step of the fares; once they are on for all they begin anew.
async fn raise(world: &World) -> Result<(), CliError> {
    world.harbour.features.with(|all| {
        if let Some(feature) = all.get_mut("new-fares").filter(|feature| feature.share >= 100) {
            feature.share = 0;
        }
    });
    let inputs: Map<_, _> =
        [("feature".to_owned(), json!("feature/new-fares"))].into_iter().collect();
    scenes::launch(world, "raise-share", inputs, "the next step").await?;
    tokio::time::sleep(QUIET).await;
    if let Some(question) = scenes::question(world) {
        let _ = world.harbour.chat.press(&question, "raise", "Maren of the booking crew");
    }
    Ok(())
}
