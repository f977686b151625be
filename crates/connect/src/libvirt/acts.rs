//! What is done in a session: looks first, and leaves alone what is as it should be.

use super::{
    call::{ActError, Making},
    migrate::migrated,
    rpc::{Procedure, RpcError},
    session::{Domain, Session, snapshot},
    xdr::Writer,
};
use arvok_core::connector::{
    CallEnd, Failure,
    libvirt::{
        self, ChangeTime, DomainState, LibvirtAct, LibvirtErrorKind, LibvirtLook, LibvirtPlan,
        Power, SnapshotAct,
    },
};
use serde_json::{Value, json};

/// What is counted (`virDomainStatsTypes`): the state, for which no guest is asked, so that one
/// that hangs holds up nobody; and whatever is of use.
const STATE: u32 = 1;
const COUNTED: u32 = 0x3f;
/// When a change holds (`virDomainModificationImpact`), and that it is the most that is changed.
const LIVE: u32 = 1;
const NEXT_START: u32 = 2;
const MOST: u32 = 4;
/// A size in bytes, and not in KiB.
const IN_BYTES: u32 = 1;
/// Most snapshots of which more is told than their names.
const MAX_SNAPSHOTS: usize = 200;
/// libvirt's word that a guest is not in the state for what is asked.
const NOT_IN_THIS_STATE: i32 = 55;
/// Moving a guest away, among long acts (`virDomainJobOperation`).
const MOVING_AWAY: u64 = 5;

fn refused(why: String) -> ActError {
    Failure::new(CallEnd::Refused, why).into()
}

fn gib(bytes: u64) -> f64 {
    bytes as f64 / (1_u64 << 30) as f64
}

/// Does what a call asks for; the answer to it.
pub(super) async fn perform(
    session: &mut Session,
    plan: &LibvirtPlan<'_>,
    making: Making<'_>,
) -> Result<Value, ActError> {
    let Some(named) = plan.domain() else {
        return match plan.act() {
            LibvirtAct::Look(LibvirtLook::Host) => host(session).await,
            _ => domains(session).await,
        };
    };
    let domain = session.domain(named).await?;
    match plan.act() {
        LibvirtAct::Look(look) => look_at(session, &domain, *look).await,
        LibvirtAct::Power(power) => powered(session, &domain, *power, making).await,
        LibvirtAct::Memory { mib, at } => {
            set_memory(session, &domain, mib * 1024, *at, making).await?;
            described(session, &domain).await
        }
        LibvirtAct::Vcpus { count, at } => {
            set_vcpus(session, &domain, *count, *at, making).await?;
            described(session, &domain).await
        }
        LibvirtAct::Disk { name, bytes } => grown(session, &domain, name, *bytes, making).await,
        LibvirtAct::Snapshot { act, name, description } => {
            let description = description.as_deref();
            snapshotted(session, &domain, (*act, name, description), making).await
        }
        LibvirtAct::Migrate(migration) => migrated(session, &domain, migration, making).await,
        LibvirtAct::CancelMigration => stays(session, &domain, making).await,
    }
}

async fn host(session: &mut Session) -> Result<Value, ActError> {
    let host = session.host().await?;
    Ok(json!({
        "name": host.name,
        "model": host.model,
        "processors": host.processors,
        "memory_mib": host.kib / 1024,
        "free_memory_mib": host.free_bytes >> 20,
    }))
}

/// All guests, each with what is known without asking it.
async fn domains(session: &mut Session) -> Result<Value, ActError> {
    let all = session.statistics(None, STATE).await?;
    let mut domains: Vec<Value> = all
        .into_iter()
        .map(|(domain, counted)| {
            let number = |name: &str| {
                let found = counted.iter().find(|(its, _)| its == name);
                let number = found.and_then(|(_, value)| value.as_i64());
                number.and_then(|n| i32::try_from(n).ok()).unwrap_or_default()
            };
            let state = DomainState::of(number("state.state"));
            json!({
                "name": domain.name,
                "uuid": domain.uuid_text(),
                "state": state.as_str(),
                "reason": state.reason(number("state.reason")),
            })
        })
        .collect();
    domains.sort_by(|a, b| a["name"].as_str().cmp(&b["name"].as_str()));
    Ok(json!({ "domains": domains }))
}

async fn look_at(session: &mut Session, of: &Domain, look: LibvirtLook) -> Result<Value, ActError> {
    Ok(match look {
        LibvirtLook::Domains => domains(session).await?,
        LibvirtLook::Host => host(session).await?,
        LibvirtLook::Domain => described(session, of).await?,
        LibvirtLook::Statistics => {
            let all = session.statistics(Some(of), COUNTED).await?;
            all.into_iter().next().map_or_else(|| json!({}), |(_, all)| libvirt::counted(all))
        }
        LibvirtLook::Definition => libvirt::definition(&session.definition(of, false).await?)?,
        LibvirtLook::Progress => {
            let (kind, counted) = session.progress(of).await?;
            libvirt::progress(kind, &counted)
        }
        LibvirtLook::Snapshots => {
            let mut names = session.snapshots(of).await?;
            names.sort();
            let mut snapshots = Vec::new();
            for name in names.into_iter().take(MAX_SNAPSHOTS) {
                let args = snapshot(&name, of).unsigned(0);
                // One that is removed meanwhile is none.
                match session.ask(Procedure::DomainSnapshotGetXmlDesc, args).await {
                    Ok(came) => {
                        let xml = super::xdr::Reader(&came).bytes()?;
                        snapshots.push(libvirt::snapshot(&name, xml));
                    }
                    Err(RpcError::Said(_)) => {}
                    Err(broken) => return Err(broken.into()),
                }
            }
            json!({ "snapshots": snapshots })
        }
    })
}

/// What is known of a guest.
async fn described(session: &mut Session, of: &Domain) -> Result<Value, ActError> {
    let (state, reason) = session.state(of).await?;
    let info = session.info(of).await?;
    Ok(json!({
        "name": of.name,
        "uuid": of.uuid_text(),
        "state": state.as_str(),
        "reason": reason,
        "memory_mib": info.kib / 1024,
        "most_memory_mib": info.most_kib / 1024,
        "vcpus": info.vcpus,
        "cpu_seconds": info.cpu_ns as f64 / 1e9,
    }))
}

/// Whether a guest is in the state that it is to be brought to.
const fn is_there(power: Power, state: DomainState) -> bool {
    match power {
        Power::Start | Power::Resume => {
            matches!(state, DomainState::Running | DomainState::Blocked)
        }
        Power::Shutdown | Power::Off => !state.is_active(),
        Power::Suspend => matches!(state, DomainState::Paused),
        Power::Reboot | Power::Reset => false,
    }
}

/// The state of a guest; one that is defined no longer once it is off is off.
async fn state(
    session: &mut Session,
    of: &Domain,
) -> Result<(DomainState, &'static str), RpcError> {
    match session.state(of).await {
        Err(RpcError::Said(error)) if error.kind() == LibvirtErrorKind::NoDomain => {
            Ok((DomainState::Off, ""))
        }
        state => state,
    }
}

async fn powered(
    session: &mut Session,
    of: &Domain,
    power: Power,
    making: Making<'_>,
) -> Result<Value, ActError> {
    let answer = |changed: bool, (state, reason): (DomainState, &str)| json!({ "changed": changed, "state": state.as_str(), "reason": reason });
    let (before, why) = session.state(of).await?;
    if is_there(power, before) {
        return Ok(answer(false, (before, why)));
    }
    if matches!(power, Power::Start) && before.is_active() {
        return Err(refused(format!("`{}` is {before} ({why}), and not off", of.name)));
    }
    let (procedure, args) = match power {
        Power::Start => (Procedure::DomainCreateWithFlags, of.args().unsigned(0)),
        Power::Shutdown => (Procedure::DomainShutdownFlags, of.args().unsigned(0)),
        Power::Reboot => (Procedure::DomainReboot, of.args().unsigned(0)),
        Power::Reset => (Procedure::DomainReset, of.args().unsigned(0)),
        Power::Off => (Procedure::DomainDestroyFlags, of.args().unsigned(0)),
        Power::Suspend => (Procedure::DomainSuspend, of.args()),
        Power::Resume => (Procedure::DomainResume, of.args()),
    };
    *making.has_been_asked = true;
    match session.ask(procedure, args).await {
        Ok(_) => {
            *making.is_done = true;
            Ok(answer(true, state(session, of).await?))
        }
        // Somebody else was faster.
        Err(RpcError::Said(error)) if error.code == NOT_IN_THIS_STATE => {
            let now = state(session, of).await?;
            match is_there(power, now.0) {
                true => Ok(answer(false, now)),
                false => Err(RpcError::Said(error).into()),
            }
        }
        Err(why) => Err(why.into()),
    }
}

/// When a change holds, by what was asked for and by the guest's state.
fn impact(at: Option<ChangeTime>, state: DomainState) -> u32 {
    match (at, state.is_active()) {
        (Some(ChangeTime::Now), _) => LIVE,
        (Some(ChangeTime::NextStart), _) | (None, false) => NEXT_START,
        (Some(ChangeTime::Both), _) | (None, true) => LIVE | NEXT_START,
    }
}

async fn set_memory(
    session: &mut Session,
    of: &Domain,
    kib: u64,
    at: Option<ChangeTime>,
    making: Making<'_>,
) -> Result<(), ActError> {
    let impact = impact(at, session.state(of).await?.0);
    let most = match impact {
        NEXT_START => libvirt::most_kib(&session.definition(of, true).await?),
        _ => None,
    };
    *making.has_been_asked = true;
    let set = |flags: u32| of.args().hyper(kib).unsigned(flags);
    if most.is_some_and(|most| kib > most) {
        session.ask(Procedure::DomainSetMemoryFlags, set(NEXT_START | MOST)).await?;
    }
    session.ask(Procedure::DomainSetMemoryFlags, set(impact)).await?;
    *making.is_done = true;
    Ok(())
}

async fn set_vcpus(
    session: &mut Session,
    of: &Domain,
    count: u32,
    at: Option<ChangeTime>,
    making: Making<'_>,
) -> Result<(), ActError> {
    let impact = impact(at, session.state(of).await?.0);
    let is_more = match impact {
        NEXT_START => {
            let args = of.args().unsigned(NEXT_START | MOST);
            let came = session.ask(Procedure::DomainGetVcpusFlags, args).await?;
            let most = super::xdr::Reader(&came).int()?;
            i64::from(count) > i64::from(most)
        }
        _ => false,
    };
    *making.has_been_asked = true;
    let set = |flags: u32| of.args().unsigned(count).unsigned(flags);
    if is_more {
        session.ask(Procedure::DomainSetVcpusFlags, set(NEXT_START | MOST)).await?;
    }
    session.ask(Procedure::DomainSetVcpusFlags, set(impact)).await?;
    *making.is_done = true;
    Ok(())
}

/// Grows a disk. One that is as large is left alone, and none is made smaller.
async fn grown(
    session: &mut Session,
    of: &Domain,
    disk: &str,
    bytes: u64,
    making: Making<'_>,
) -> Result<Value, ActError> {
    let before = session.disk_bytes(of, disk).await?;
    if before > bytes {
        let (is, wanted) = (gib(before), gib(bytes));
        let why = format!("`{disk}` has {is:.2} GiB; it is not made smaller, to {wanted:.2} GiB");
        return Err(Failure::lasting(CallEnd::Refused, why).into());
    }
    let changed = before < bytes;
    if changed {
        *making.has_been_asked = true;
        let args = of.args().text(disk).hyper(bytes).unsigned(IN_BYTES);
        session.ask(Procedure::DomainBlockResize, args).await?;
    }
    Ok(json!({ "changed": changed, "gib": gib(bytes), "before_gib": gib(before) }))
}

async fn snapshotted(
    session: &mut Session,
    of: &Domain,
    (act, name, description): (SnapshotAct, &str, Option<&str>),
    making: Making<'_>,
) -> Result<Value, ActError> {
    let named = of.args().text(name).unsigned(0);
    let is_there = match session.ask(Procedure::DomainSnapshotLookupByName, named).await {
        Ok(_) => true,
        Err(RpcError::Said(error)) if error.kind() == LibvirtErrorKind::NoSnapshot => {
            if act == SnapshotAct::Revert {
                return Err(RpcError::Said(error).into());
            }
            false
        }
        Err(why) => return Err(why.into()),
    };
    let asked: Option<(Procedure, Writer)> = match (act, is_there) {
        (SnapshotAct::Create, false) => {
            let document = libvirt::snapshot_document(name, description);
            let args = of.args().text(&document).unsigned(0);
            Some((Procedure::DomainSnapshotCreateXml, args))
        }
        (SnapshotAct::Revert, _) => {
            Some((Procedure::DomainRevertToSnapshot, snapshot(name, of).unsigned(0)))
        }
        (SnapshotAct::Delete, true) => {
            Some((Procedure::DomainSnapshotDelete, snapshot(name, of).unsigned(0)))
        }
        (SnapshotAct::Create, true) | (SnapshotAct::Delete, false) => None,
    };
    let changed = asked.is_some();
    if let Some((procedure, args)) = asked {
        *making.has_been_asked = true;
        session.ask(procedure, args).await?;
    }
    Ok(json!({ "changed": changed, "name": name }))
}

/// Has a guest that is being moved stay where it is; no other long act is broken off.
async fn stays(session: &mut Session, of: &Domain, making: Making<'_>) -> Result<Value, ActError> {
    let (kind, counted) = session.progress(of).await?;
    let going_on = libvirt::progress(kind, &counted)["is_going_on"] == true;
    let operation = counted.iter().find(|(name, _)| name == "operation");
    let operation = operation.and_then(|(_, value)| value.as_u64());
    if !going_on {
        return Ok(json!({ "changed": false }));
    }
    if operation.is_some_and(|operation| operation != MOVING_AWAY) {
        return Err(refused(format!("`{}` is not being moved; something else goes on", of.name)));
    }
    *making.has_been_asked = true;
    session.ask(Procedure::DomainAbortJob, of.args()).await?;
    Ok(json!({ "changed": true }))
}
