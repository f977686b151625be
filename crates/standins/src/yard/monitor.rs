//! The yard's monitor: looks at every disk, VM and host, and posts what crosses a threshold.
//!
//! [`Monitor::look`] is pure and gives readings; posting them, again and again until they are
//! taken, is the loop's business. A raised reading is repeated while it stands.

use super::{Cluster, Disk, Host, Vm, YardOptions};
use crate::office::{Office, as_devices_write};
use serde::Serialize;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// Percent of a disk at which it is raised, and below which it is cleared again.
const DISK_RAISE: f64 = 87.5;
const DISK_CLEAR: f64 = 85.0;
/// Percent of a host's memory at which it is raised, and below which it is cleared again.
const MEMORY_RAISE: f64 = 90.0;
const MEMORY_CLEAR: f64 = 85.0;
/// Percent of a VM's processors at which it is raised, and below which it is cleared again.
const CPU_RAISE: f64 = 92.0;
const CPU_CLEAR: f64 = 80.0;
/// Seconds of the cluster's time between repeats of what stands.
const REPEAT: f64 = 30.0;
/// Readings that are kept while nobody takes them.
const KEPT: usize = 1000;

/// One message of the monitor.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Reading {
    /// Counts up.
    pub number: u64,
    /// `disk`, `power`, `cpu` or `memory`; `created` of a VM that was not there before.
    pub check: &'static str,
    /// `ok`, `high`, `full`.
    pub level: &'static str,
    /// The VM; none for `memory`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub vm: String,
    /// The host, for `memory`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub host: String,
    /// The disk, or the same as `check`.
    pub part: String,
    /// Percent used; of power, 100 when on.
    pub percent: f64,
    /// For people.
    pub text: String,
    /// `gold`, `silver`, `bronze`; of hosts `none`.
    pub tier: String,
}

/// What the monitor remembers.
#[derive(Debug, Default)]
pub struct Monitor {
    number: u64,
    /// What stands, its level, and when it was last posted.
    standing: BTreeMap<(String, String), (&'static str, f64)>,
    /// The VMs that it has seen; none before its first look.
    known: Option<BTreeSet<String>>,
}

impl Monitor {
    /// Looks at everything; what is new, worse, due again or over becomes a reading.
    pub fn look(&mut self, cluster: &Cluster) -> Vec<Reading> {
        let mut seen = Vec::new();
        for (name, vm) in &cluster.vms {
            seen.push(power(name, vm));
            seen.push(self.cpu(name, vm));
            seen.extend(vm.disks.iter().map(|d| self.disk(name, vm, d)));
        }
        seen.extend(
            cluster
                .hosts
                .iter()
                .map(|(name, host)| self.memory(name, host, cluster.used_gib(name))),
        );
        seen.retain_mut(|reading| self.is_due(reading, cluster.clock));
        seen.extend(self.created(cluster));
        seen
    }

    /// The VMs that were not there before.
    fn created(&mut self, cluster: &Cluster) -> Vec<Reading> {
        let names: BTreeSet<String> = cluster.vms.keys().cloned().collect();
        let Some(known) = self.known.replace(names.clone()) else { return Vec::new() };
        let new = names.difference(&known).filter_map(|name| Some((name, cluster.vms.get(name)?)));
        new.map(|(name, vm)| {
            self.number += 1;
            Reading {
                number: self.number,
                ..reading(name, vm, "created", "ok", 0.0, format!("{name} was created"))
            }
        })
        .collect()
    }

    fn cpu(&self, name: &str, vm: &Vm) -> Reading {
        let percent = (vm.load * 1000.0).round() / 10.0;
        let stands = self.standing.contains_key(&(name.to_owned(), "cpu".to_owned()));
        let high = percent >= CPU_RAISE || (stands && percent >= CPU_CLEAR);
        let text = format!("{percent:.0} % of the {} processors of {name} are at work", vm.cpus);
        reading(name, vm, "cpu", if high { "high" } else { "ok" }, percent, text)
    }

    fn disk(&self, name: &str, vm: &Vm, disk: &Disk) -> Reading {
        let percent = disk.used_percent();
        let stands = self.standing.contains_key(&(name.to_owned(), disk.name.clone()));
        Reading {
            number: 0,
            check: "disk",
            level: level(percent, stands),
            vm: name.to_owned(),
            host: String::new(),
            part: disk.name.clone(),
            percent: (percent * 10.0).round() / 10.0,
            text: format!(
                "disk {} of {name} is {percent:.1} % full, {:.1} of {:.0} GiB",
                disk.name, disk.used_gib, disk.size_gib
            ),
            tier: vm.tier.clone(),
        }
    }

    fn memory(&self, name: &str, host: &Host, used: f64) -> Reading {
        let percent = (used / host.memory_gib * 1000.0).round() / 10.0;
        let stands = self.standing.contains_key(&(name.to_owned(), "memory".to_owned()));
        let high = percent >= MEMORY_RAISE || (stands && percent >= MEMORY_CLEAR);
        Reading {
            number: 0,
            check: "memory",
            level: if high { "high" } else { "ok" },
            vm: String::new(),
            host: name.to_owned(),
            part: "memory".into(),
            percent,
            text: format!("{used:.0} of {:.0} GiB of {name}'s memory are in use", host.memory_gib),
            tier: "none".into(),
        }
    }

    /// Remembers what stands, and numbers what is to be posted.
    fn is_due(&mut self, reading: &mut Reading, clock: f64) -> bool {
        let key = (format!("{}{}", reading.vm, reading.host), reading.part.clone());
        let due = match (self.standing.get(&key), reading.level) {
            (None, "ok") => false,
            (None, _) | (Some(_), "ok") => true,
            (Some((before, at)), level) => *before != level || clock - at >= REPEAT,
        };
        if !due {
            return false;
        }
        if reading.level == "ok" {
            self.standing.remove(&key);
        } else {
            self.standing.insert(key, (reading.level, clock));
        }
        self.number += 1;
        reading.number = self.number;
        true
    }
}

/// A reading of a VM as a whole.
fn reading(
    name: &str,
    vm: &Vm,
    check: &'static str,
    level: &'static str,
    percent: f64,
    text: String,
) -> Reading {
    Reading {
        number: 0,
        check,
        level,
        vm: name.to_owned(),
        host: String::new(),
        part: check.into(),
        percent,
        text,
        tier: vm.tier.clone(),
    }
}

fn power(name: &str, vm: &Vm) -> Reading {
    let (level, state) = if vm.powered { ("ok", "on") } else { ("high", "off") };
    let percent = if vm.powered { 100.0 } else { 0.0 };
    reading(name, vm, "power", level, percent, format!("{name} is switched {state}"))
}

fn level(percent: f64, stands: bool) -> &'static str {
    match percent {
        p if p >= 97.0 => "full",
        p if p >= DISK_RAISE || (stands && p >= DISK_CLEAR) => "high",
        _ => "ok",
    }
}

/// The clock of the yard: time passes, the monitor looks, what it saw is posted in order.
pub(super) async fn run(office: Office<Cluster>, options: YardOptions) {
    let mut monitor = Monitor::default();
    let mut waiting: VecDeque<Reading> = VecDeque::new();
    let client = arvok_connect::http_client().timeout(std::time::Duration::from_secs(5)).build();
    // Numbers begin anew with every start, so the run is part of what makes a message unique.
    let run = crate::watch::run();
    let mut tick = tokio::time::interval(options.tick);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Skip);
    loop {
        tick.tick().await;
        waiting.extend(office.with(|cluster| {
            cluster.pass(options.seconds_a_tick);
            monitor.look(cluster)
        }));
        let silent = office.faults().silent;
        while waiting.len() > KEPT {
            waiting.pop_front();
        }
        let (Ok(client), Some((url, token)), false) = (&client, &options.report_to, silent) else {
            continue;
        };
        while let Some(reading) = waiting.front() {
            let body = json!({ "run": run,
                "at": chrono::Utc::now().timestamp_millis() as f64 / 1000.0, "reading": reading });
            let sent =
                client.post(url).bearer_auth(token).json(&as_devices_write(body)).send().await;
            match sent {
                Ok(answer) if answer.status().is_success() || answer.status().as_u16() == 422 => {
                    waiting.pop_front()
                }
                _ => break,
            };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn raised_repeated_and_cleared_with_a_margin() {
        let mut yard = Cluster::skerrow();
        let mut monitor = Monitor::default();
        assert_eq!(monitor.look(&yard), []);
        let mut step = |percent: f64, seconds: f64| {
            yard.fill("quill-booking-db-1", "data", percent, 0.0);
            yard.pass(seconds);
            monitor.look(&yard).into_iter().map(|r| (r.level, r.percent)).collect::<Vec<_>>()
        };
        assert_eq!(step(88.0, 1.0), [("high", 88.0)]);
        assert_eq!(step(88.0, 1.0), []);
        assert_eq!(step(86.0, 30.0), [("high", 86.0)]);
        assert_eq!(step(98.0, 1.0), [("full", 98.0)]);
        assert_eq!(step(80.0, 1.0), [("ok", 80.0)]);
        assert_eq!(step(80.0, 60.0), []);
    }

    #[test]
    fn a_host_whose_memory_runs_out_is_raised_until_there_is_room() {
        let mut yard = Cluster::skerrow();
        let mut monitor = Monitor::default();
        let mut step = |own: f64| {
            yard.hosts.get_mut("quill-hv-2").expect("a host").own_gib = own;
            monitor
                .look(&yard)
                .into_iter()
                .map(|r| (r.host, r.level, r.percent))
                .collect::<Vec<_>>()
        };
        let told = |level, percent| vec![("quill-hv-2".to_owned(), level, percent)];
        assert_eq!(step(25.0), []);
        assert_eq!(step(26.0), told("high", 90.6));
        assert_eq!(step(23.0), [], "within the margin");
        assert_eq!(step(22.0), told("ok", 84.4));
    }

    #[test]
    fn a_vm_whose_processors_are_at_work_is_raised_and_one_that_is_new_is_told_once() {
        let mut yard = Cluster::skerrow();
        let mut monitor = Monitor::default();
        let mut step = |work: f64, made: &[&str]| {
            yard.vms.get_mut("quill-mail-1").expect("a VM").work = Some(work);
            made.iter().for_each(|name| yard.make(name, "quill-hv-4"));
            yard.pass(1.0);
            monitor.look(&yard).into_iter().map(|r| (r.vm, r.check, r.level)).collect::<Vec<_>>()
        };
        let mail = |level| ("quill-mail-1".to_owned(), "cpu", level);
        assert_eq!(step(0.5, &[]), []);
        assert_eq!(
            step(1.9, &["oldhithe-kiosk-2"]),
            [mail("high"), ("oldhithe-kiosk-2".to_owned(), "created", "ok")]
        );
        assert_eq!(step(1.7, &[]), [], "within the margin");
        assert_eq!(step(1.0, &[]), [mail("ok")]);
    }

    #[test]
    fn a_vm_that_is_switched_off_is_raised_until_it_is_on() {
        let mut yard = Cluster::skerrow();
        let mut monitor = Monitor::default();
        let mut step = |on: bool| {
            yard.vms.get_mut("brack-kiosk-3").expect("a VM").powered = on;
            monitor.look(&yard).into_iter().map(|r| (r.check, r.level, r.text)).collect::<Vec<_>>()
        };
        assert_eq!(step(true), []);
        assert_eq!(step(false), [("power", "high", "brack-kiosk-3 is switched off".to_owned())]);
        assert_eq!(step(false), []);
        assert_eq!(step(true), [("power", "ok", "brack-kiosk-3 is switched on".to_owned())]);
    }
}
