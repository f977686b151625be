//! How much a script may use: what is written, and what counts then.

use crate::{Period, document::Checker};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

const MIB: u64 = 1 << 20;

/// How much a script may use. How long it may run is the step's `timeout`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LimitsDoc {
    /// Processor time of all of its processes together. Left out: as long as it may run.
    #[serde(default)]
    pub processor_time: Option<Period>,
    /// Memory of all of its processes together, in MiB, 16 to 8192. Left out: 256.
    #[serde(default)]
    pub memory_mib: Option<u32>,
    /// Processes and threads at once, 2 to 1000. Left out: 64.
    #[serde(default)]
    pub processes: Option<u32>,
    /// Open files of each process, 16 to 10000. Left out: 256.
    #[serde(default)]
    pub open_files: Option<u32>,
    /// What it may write into its working folder, in MiB, 1 to 2048. It is kept in memory, and
    /// counts beside `memory_mib`. Left out: 64.
    #[serde(default)]
    pub disk_mib: Option<u32>,
    /// What it may write to its standard output and its standard error, in KiB each, 1 to 65536.
    /// Left out: 1024.
    #[serde(default)]
    pub output_kib: Option<u32>,
}

/// How much a script may use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Processor time of all processes; none: as long as it may run.
    pub processor_time: Option<Period>,
    /// Bytes of memory of all processes.
    pub memory: u64,
    /// Processes and threads at once.
    pub processes: u32,
    /// Open files of each process.
    pub open_files: u32,
    /// Bytes in its working folder.
    pub disk: u64,
    /// Bytes of its standard output, and of its standard error.
    pub output: u64,
}

impl Limits {
    /// What counts where nothing is said.
    pub const USUAL: Self = Self {
        processor_time: None,
        memory: 256 * MIB,
        processes: 64,
        open_files: 256,
        disk: 64 * MIB,
        output: 1 << 20,
    };

    pub(super) fn check(check: &mut Checker<'_>, at: &str, doc: &LimitsDoc) -> Self {
        let usual = Self::USUAL;
        let mut of = |key: &str, given: Option<u32>, usual: u64, unit: u64, range: [u32; 2]| {
            let [least, most] = range;
            match given {
                Some(given) if !(least..=most).contains(&given) => {
                    check.fail(&format!("{at}/{key}"), format!("is {least} to {most}"));
                    usual
                }
                given => given.map_or(usual, |given| u64::from(given) * unit),
            }
        };
        let number = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
        let limits = Self {
            processor_time: doc.processor_time,
            memory: of("memory_mib", doc.memory_mib, usual.memory, MIB, [16, 8192]),
            processes: number(of("processes", doc.processes, usual.processes.into(), 1, [2, 1000])),
            open_files: number(of(
                "open_files",
                doc.open_files,
                usual.open_files.into(),
                1,
                [16, 10_000],
            )),
            disk: of("disk_mib", doc.disk_mib, usual.disk, MIB, [1, 2048]),
            output: of("output_kib", doc.output_kib, usual.output, 1 << 10, [1, 65_536]),
        };
        if doc.processor_time.is_some_and(|time| time.millis() < 1000) {
            check.fail(&format!("{at}/processor_time"), "is one second at least");
        }
        limits
    }
}
