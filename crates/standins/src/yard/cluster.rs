//! The cluster itself: what there is and how it moves with time.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A hypervisor host.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Host {
    /// Its memory.
    pub memory_gib: f64,
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
    /// Share of its processors at work, 0 to 1.
    pub load: f64,
    /// Its disks.
    pub disks: Vec<Disk>,
    /// `gold`, `silver`, `bronze`.
    pub tier: String,
    /// How often a disk of it was grown.
    pub grown: u32,
}

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
        let hosts = (1..=4).map(|n| (format!("quill-hv-{n}"), Host { memory_gib: 64.0, load: 0.2 })).collect();
        let mut cluster = Self { clock: 0.0, hosts, vms: BTreeMap::new() };
        for (name, host, memory, tier, disks) in [
            ("quill-booking-db-1", 1, 16.0, "gold", &[("system", 20.0, 9.0), ("data", 40.0, 31.0)][..]),
            ("quill-booking-db-2", 2, 16.0, "gold", &[("system", 20.0, 9.0), ("data", 40.0, 22.0)]),
            ("quill-booking-web-1", 3, 8.0, "gold", &[("system", 20.0, 11.0)]),
            ("quill-report-2", 2, 12.0, "silver", &[("system", 20.0, 8.0), ("scratch", 60.0, 30.0)]),
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
            let vm = Vm {
                host: format!("quill-hv-{host}"),
                powered: true,
                memory_gib: memory,
                load: 0.2,
                disks,
                tier: tier.into(),
                grown: 0,
            };
            cluster.vms.insert(name.into(), vm);
        }
        cluster
    }

    /// Lets time pass: disks of running VMs fill, load sways with the hours.
    pub fn pass(&mut self, seconds: f64) {
        self.clock += seconds;
        let clock = self.clock;
        for (i, vm) in self.vms.values_mut().enumerate() {
            let sway = ((clock / 600.0) + i as f64).sin() * 0.15;
            vm.load = if vm.powered { 0.3 + sway } else { 0.0 };
            for disk in vm.disks.iter_mut().filter(|_| vm.powered) {
                disk.used_gib = (disk.used_gib + disk.fill_gib_an_hour * seconds / 3600.0).min(disk.size_gib);
            }
        }
        for (name, host) in &mut self.hosts {
            let guests = self.vms.values().filter(|v| &v.host == name && v.powered);
            host.load = guests.map(|v| v.load * v.memory_gib / host.memory_gib).sum::<f64>().min(1.0);
        }
    }

    /// Grows a disk; the new size.
    pub fn grow(&mut self, vm: &str, disk: &str, by_gib: f64) -> Result<f64, String> {
        if !(0.0..=1024.0).contains(&by_gib) || by_gib == 0.0 {
            return Err(format!("a disk grows by 0 to 1024 GiB, not by {by_gib}"));
        }
        let vm = self.vms.get_mut(vm).ok_or_else(|| format!("there is no VM {vm}"))?;
        let found = vm.disks.iter_mut().find(|d| d.name == disk).ok_or_else(|| format!("the VM has no disk {disk}"))?;
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
