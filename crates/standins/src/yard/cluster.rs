//! The cluster itself: what there is and how it moves with time.

use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A hypervisor host.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Host {
    /// Its memory.
    pub memory_gib: f64,
    /// What of it the host itself needs: its services, and whatever else runs on it.
    pub own_gib: f64,
    /// Share of its processors at work, 0 to 1.
    pub load: f64,
}

/// A disk of a VM.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Disk {
    /// Its name within the VM.
    pub name: String,
    /// Its size.
    pub size_gib: f64,
    /// What is written on it.
    pub used_gib: f64,
    /// How fast it fills.
    pub fill_gib_an_hour: f64,
}

impl Disk {
    /// Share that is used, in percent.
    pub fn used_percent(&self) -> f64 {
        self.used_gib / self.size_gib * 100.0
    }
}

/// A virtual machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Vm {
    /// The host that carries it.
    pub host: String,
    /// Whether it is switched on.
    pub powered: bool,
    /// Its memory.
    pub memory_gib: f64,
    /// Its processors.
    pub cpus: u32,
    /// How many of them it has work for; none: it sways with the hours.
    pub work: Option<f64>,
    /// Share of its processors at work, 0 to 1.
    pub load: f64,
    /// Its disks.
    pub disks: Vec<Disk>,
    /// What it is marked with.
    pub tags: BTreeSet<String>,
    /// States that it can be put back to, the oldest first.
    pub snapshots: Vec<Snapshot>,
    /// `gold`, `silver`, `bronze`.
    pub tier: String,
    /// How often a disk of it was grown.
    pub grown: u32,
    /// The host to which it is on its way, and seconds until it is there.
    pub moving: Option<(String, f64)>,
}

/// A state of a VM that was kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    /// Its name within the VM.
    pub name: String,
    /// The processors that it had.
    pub cpus: u32,
}

/// Most processors and most snapshots of a VM.
const MOST_CPUS: u32 = 16;
const MOST_SNAPSHOTS: usize = 8;

/// How long a guest is on its way, in seconds for each GiB of its memory.
const SECONDS_A_GIB: f64 = 4.0;

/// Memory that a host must have left when a guest has come.
const LEFT_GIB: f64 = 2.0;

/// All of it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Cluster {
    /// Seconds of its own time since it began.
    pub clock: f64,
    /// By name.
    pub hosts: BTreeMap<String, Host>,
    /// By name.
    pub vms: BTreeMap<String, Vm>,
}

impl Cluster {
    /// The yard of the Skerrow Ferries.
    pub fn skerrow() -> Self {
        let hosts = (1..=4)
            .map(|n| (format!("quill-hv-{n}"), Host { memory_gib: 64.0, own_gib: 4.0, load: 0.2 }))
            .collect();
        let mut cluster = Self { clock: 0.0, hosts, vms: BTreeMap::new() };
        for (name, host, memory, tier, disks) in [
            (
                "quill-booking-db-1",
                1,
                16.0,
                "gold",
                &[("system", 20.0, 9.0), ("data", 40.0, 31.0)][..],
            ),
            ("quill-booking-db-2", 2, 16.0, "gold", &[("system", 20.0, 9.0), ("data", 40.0, 22.0)]),
            ("quill-booking-web-1", 3, 8.0, "gold", &[("system", 20.0, 11.0)]),
            (
                "quill-report-2",
                2,
                12.0,
                "silver",
                &[("system", 20.0, 8.0), ("scratch", 60.0, 30.0)],
            ),
            ("quill-mail-1", 2, 4.0, "silver", &[("system", 20.0, 6.0)]),
            ("brack-kiosk-3", 4, 2.0, "bronze", &[("system", 8.0, 4.0)]),
            ("nessfold-kiosk-1", 4, 2.0, "bronze", &[("system", 8.0, 4.0)]),
            ("oldhithe-kiosk-1", 3, 2.0, "bronze", &[("system", 8.0, 3.5)]),
        ] {
            let disks = disks
                .iter()
                .map(|(n, size, used)| Disk {
                    name: (*n).into(),
                    size_gib: *size,
                    used_gib: *used,
                    fill_gib_an_hour: 0.02,
                })
                .collect();
            cluster.put(name, &format!("quill-hv-{host}"), memory, tier, disks);
        }
        cluster
    }

    fn put(&mut self, name: &str, host: &str, memory_gib: f64, tier: &str, disks: Vec<Disk>) {
        let vm = Vm {
            host: host.into(),
            powered: true,
            memory_gib,
            cpus: 2,
            work: None,
            load: 0.2,
            disks,
            tags: BTreeSet::new(),
            snapshots: Vec::new(),
            tier: tier.into(),
            grown: 0,
            moving: None,
        };
        self.vms.insert(name.into(), vm);
    }

    /// Makes a small VM.
    pub fn make(&mut self, name: &str, host: &str) {
        let system =
            Disk { name: "system".into(), size_gib: 8.0, used_gib: 3.0, fill_gib_an_hour: 0.02 };
        self.put(name, host, 2.0, "bronze", vec![system]);
    }

    /// Gives a VM so many processors.
    ///
    /// # Errors
    /// In words, if there is no such VM, or too many are asked for.
    pub fn set_cpus(&mut self, vm: &str, cpus: u32) -> Result<u32, String> {
        if !(1..=MOST_CPUS).contains(&cpus) {
            return Err(format!("a VM has 1 to {MOST_CPUS} processors, not {cpus}"));
        }
        let vm = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        vm.cpus = cpus;
        Ok(cpus)
    }

    /// Keeps the state of a VM under a name; the same name again keeps the first.
    ///
    /// # Errors
    /// In words, if there is no such VM, or no room for another.
    pub fn keep(&mut self, vm: &str, name: &str) -> Result<(), String> {
        let vm = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        if vm.snapshots.iter().any(|s| s.name == name) {
            return Ok(());
        }
        if vm.snapshots.len() >= MOST_SNAPSHOTS {
            return Err(format!("a VM has {MOST_SNAPSHOTS} snapshots at most"));
        }
        vm.snapshots.push(Snapshot { name: name.to_owned(), cpus: vm.cpus });
        Ok(())
    }

    /// Puts a VM back to a state that was kept.
    ///
    /// # Errors
    /// In words, if there is no such VM or snapshot.
    pub fn put_back(&mut self, vm: &str, name: &str) -> Result<(), String> {
        let found = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        let kept = found.snapshots.iter().find(|s| s.name == name);
        found.cpus = kept.ok_or_else(|| format!("{vm} has no snapshot {name}"))?.cpus;
        Ok(())
    }

    /// Memory of a host that is in use: its own and that of the guests that run on it.
    pub fn used_gib(&self, host: &str) -> f64 {
        let own = self.hosts.get(host).map_or(0.0, |h| h.own_gib);
        own + self
            .vms
            .values()
            .filter(|v| v.host == host && v.powered)
            .map(|v| v.memory_gib)
            .sum::<f64>()
    }

    /// Sends a guest to another host, where it is after a while; how many seconds that takes.
    ///
    /// # Errors
    /// In words, if there is no such guest or host, or no room.
    pub fn set_out(&mut self, vm: &str, to: &str) -> Result<f64, String> {
        let room = self.hosts.get(to).ok_or_else(|| format!("there is no host {to}"))?.memory_gib
            - self.used_gib(to);
        let guest = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        if guest.host == to {
            return Ok(0.0);
        }
        if room < guest.memory_gib + LEFT_GIB {
            return Err(format!(
                "{to} has {room:.0} GiB left, and {vm} needs {:.0}",
                guest.memory_gib
            ));
        }
        let seconds = guest.memory_gib * SECONDS_A_GIB;
        guest.moving.get_or_insert((to.to_owned(), seconds));
        Ok(seconds)
    }

    /// Lets time pass: disks of running VMs fill, load sways with the hours, guests come closer.
    pub fn pass(&mut self, seconds: f64) {
        self.clock += seconds;
        let clock = self.clock;
        for (i, vm) in self.vms.values_mut().enumerate() {
            if let Some((to, left)) = &mut vm.moving {
                *left -= seconds;
                if *left <= 0.0 {
                    vm.host = std::mem::take(to);
                    vm.moving = None;
                }
            }
            let sway = ((clock / 600.0) + i as f64).sin() * 0.15;
            let wanted = vm.work.map_or(0.3 + sway, |work| work / f64::from(vm.cpus));
            vm.load = if vm.powered { wanted.clamp(0.0, 1.0) } else { 0.0 };
            for disk in vm.disks.iter_mut().filter(|_| vm.powered) {
                disk.used_gib =
                    (disk.used_gib + disk.fill_gib_an_hour * seconds / 3600.0).min(disk.size_gib);
            }
        }
        for (name, host) in &mut self.hosts {
            let guests = self.vms.values().filter(|v| &v.host == name && v.powered);
            host.load =
                guests.map(|v| v.load * v.memory_gib / host.memory_gib).sum::<f64>().min(1.0);
        }
    }

    /// Grows a disk; the new size.
    pub fn grow(&mut self, vm: &str, disk: &str, by_gib: f64) -> Result<f64, String> {
        if !(0.0..=1024.0).contains(&by_gib) || by_gib == 0.0 {
            return Err(format!("a disk grows by 0 to 1024 GiB, not by {by_gib}"));
        }
        let vm = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        let found = vm
            .disks
            .iter_mut()
            .find(|d| d.name == disk)
            .ok_or_else(|| format!("the VM has no disk {disk}"))?;
        found.size_gib += by_gib;
        vm.grown += 1;
        Ok(found.size_gib)
    }

    /// Makes a disk fill: it stands at `percent` now and goes on at a speed.
    pub fn fill(&mut self, vm: &str, disk: &str, percent: f64, gib_an_hour: f64) {
        let found = self.vms.get_mut(vm).and_then(|v| v.disks.iter_mut().find(|d| d.name == disk));
        if let Some(disk) = found {
            disk.used_gib = disk.size_gib * percent / 100.0;
            disk.fill_gib_an_hour = gib_an_hour;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn disks_fill_with_time_and_never_overflow() {
        let mut yard = Cluster::skerrow();
        yard.fill("quill-booking-db-1", "data", 90.0, 8.0);
        yard.pass(1800.0);
        let used = |y: &Cluster| y.vms["quill-booking-db-1"].disks[1].used_gib;
        assert!((used(&yard) - 40.0).abs() < 0.01, "36 + 4 GiB, is {}", used(&yard));
        yard.pass(3600.0);
        assert!((used(&yard) - 40.0).abs() < 0.01, "a full disk stays full");
        assert_eq!(yard.grow("quill-booking-db-1", "data", 4.0), Ok(44.0));
        assert!(yard.grow("quill-booking-db-1", "dta", 4.0).is_err());
        assert!(yard.grow("quill-booking-db-1", "data", f64::NAN).is_err());
    }

    #[test]
    fn a_guest_is_on_its_way_for_a_while_and_goes_only_where_there_is_room() {
        let mut yard = Cluster::skerrow();
        assert_eq!(yard.used_gib("quill-hv-2"), 36.0);
        assert_eq!(yard.set_out("quill-mail-1", "quill-hv-4"), Ok(16.0));
        yard.pass(15.0);
        assert_eq!(yard.vms["quill-mail-1"].host, "quill-hv-2", "not there yet");
        assert_eq!(
            yard.set_out("quill-mail-1", "quill-hv-4"),
            Ok(16.0),
            "asked twice, it sets out once"
        );
        yard.pass(2.0);
        assert_eq!((yard.used_gib("quill-hv-2"), yard.used_gib("quill-hv-4")), (32.0, 12.0));
        assert_eq!(yard.set_out("quill-mail-1", "quill-hv-4"), Ok(0.0), "it is there");
        yard.hosts.get_mut("quill-hv-1").expect("a host").own_gib = 40.0;
        let full = yard.set_out("quill-report-2", "quill-hv-1");
        assert_eq!(full, Err("quill-hv-1 has 8 GiB left, and quill-report-2 needs 12".to_owned()));
        assert!(yard.set_out("quill-report-2", "quill-hv-9").is_err());
    }

    #[test]
    fn work_is_shared_by_processors_and_a_snapshot_brings_them_back() {
        let mut yard = Cluster::skerrow();
        yard.vms.get_mut("quill-booking-web-1").expect("a VM").work = Some(1.9);
        yard.pass(1.0);
        assert!(yard.vms["quill-booking-web-1"].load > 0.9);
        assert_eq!(yard.keep("quill-booking-web-1", "before"), Ok(()));
        assert_eq!(yard.set_cpus("quill-booking-web-1", 4), Ok(4));
        yard.pass(1.0);
        assert!(yard.vms["quill-booking-web-1"].load < 0.5);
        assert_eq!(yard.keep("quill-booking-web-1", "before"), Ok(()), "the first is kept");
        assert_eq!(yard.put_back("quill-booking-web-1", "before"), Ok(()));
        assert_eq!(yard.vms["quill-booking-web-1"].cpus, 2);
        assert!(yard.put_back("quill-booking-web-1", "after").is_err());
        assert!(yard.set_cpus("quill-booking-web-1", 17).is_err());
    }

    #[test]
    fn a_host_carries_the_load_of_its_running_guests() {
        let mut yard = Cluster::skerrow();
        for vm in yard.vms.values_mut().filter(|v| v.host == "quill-hv-4") {
            vm.powered = false;
        }
        yard.pass(1.0);
        assert_eq!(yard.hosts["quill-hv-4"].load, 0.0);
        assert!(yard.hosts["quill-hv-1"].load > 0.0);
    }
}
