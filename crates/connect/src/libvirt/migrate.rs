//! Moving a guest: the host that has it leads, we look on, and call it off when its time is over,
//! so that we know where the guest is.

use super::{
    call::{ActError, Making},
    rpc::{Procedure, RpcError},
    session::{Domain, Parameters, Session, parameters, progress},
};
use arvok_core::connector::{
    CallEnd, Failure,
    libvirt::{self, LibvirtErrorKind, Migration},
};
use serde_json::{Value, json};
use std::time::Duration;
use tokio::time::Instant;

/// How a guest is moved (`virDomainMigrateFlags`).
const LIVE: u32 = 1;
const PEER_TO_PEER: u32 = 1 << 1;
const PERSIST_THERE: u32 = 1 << 3;
const UNDEFINE_HERE: u32 = 1 << 4;
const COPY_DISKS: u32 = 1 << 6;
const OFFLINE: u32 = 1 << 10;
const SLOW_DOWN: u32 = 1 << 13;
/// How often it is looked how far it has come.
const LOOKS: Duration = Duration::from_secs(1);
/// The time that is left for calling it off: at most so much, and at most a quarter of all.
const CALLING_OFF: Duration = Duration::from_secs(10);

/// Moves a guest; the answer to that.
pub(super) async fn migrated(
    session: &mut Session,
    of: &Domain,
    migration: &Migration,
    making: Making<'_>,
) -> Result<Value, ActError> {
    let is_active = session.state(of).await?.0.is_active();
    let is_persistent = session.is_persistent(of).await?;
    let mut flags = PEER_TO_PEER;
    let mut add = |is_so: bool, flag: u32| flags |= if is_so { flag } else { 0 };
    add(is_active && migration.live, LIVE);
    add(is_active && migration.live && migration.slow_down, SLOW_DOWN);
    add(is_persistent, PERSIST_THERE | UNDEFINE_HERE);
    add(!is_active, OFFLINE);
    add(migration.copy_disks, COPY_DISKS);
    let mut asked = Vec::new();
    asked.extend(migration.over.as_ref().map(|over| ("migrate_uri", Value::from(over.as_str()))));
    asked.extend(migration.mib_per_second.map(|most| ("bandwidth", Value::from(most))));
    let mut args = of.args().optional_text(Some(&migration.to));
    args.0.extend(parameters(&asked).0);
    let args = args.bytes(&[]).unsigned(flags);

    let begun = Instant::now();
    let most = making.within.saturating_sub(CALLING_OFF.min(making.within / 4));
    *making.has_been_asked = true;
    let moving = session.begin_asking(Procedure::DomainMigratePerform3Params, args).await?;
    let mut looked = None;
    loop {
        let left = most.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return called_off(session, of, migration, moving, begun).await;
        }
        match tokio::time::timeout(LOOKS.min(left), session.answer(moving)).await {
            Ok(Ok(_)) => return Ok(moved(migration, begun)),
            Ok(Err(why)) => return Err(why.into()),
            Err(_) => {}
        }
        let line = match looked.take() {
            None => {
                let asking =
                    session.begin_asking(Procedure::DomainGetJobStats, of.args().unsigned(0));
                looked = Some(asking.await?);
                continue;
            }
            Some(asked) => match tokio::time::timeout(LOOKS, session.answer(asked)).await {
                Ok(Ok(came)) => progress(&came).ok().map(|(kind, counted)| line(kind, &counted)),
                // It is not told while it begins or ends.
                Ok(Err(RpcError::Said(_))) => None,
                Ok(Err(why)) => return Err(why.into()),
                Err(_) => {
                    looked = Some(asked);
                    None
                }
            },
        };
        if let Some(line) = line {
            (making.live.0)(line.as_bytes());
        }
    }
}

fn moved(migration: &Migration, begun: Instant) -> Value {
    let seconds = (begun.elapsed().as_secs_f64() * 10.0).round() / 10.0;
    json!({ "to": migration.to, "seconds": seconds })
}

/// A line that says how far it has come.
fn line(kind: i32, counted: &Parameters) -> String {
    let came = libvirt::progress(kind, counted);
    format!(
        "{} s: {} % of {} MiB, {} MiB left\n",
        came["elapsed_seconds"], came["percent"], came["total_mib"], came["remaining_mib"]
    )
}

/// Its time is over: the guest stays, unless it is over there already.
async fn called_off(
    session: &mut Session,
    of: &Domain,
    migration: &Migration,
    moving: u32,
    begun: Instant,
) -> Result<Value, ActError> {
    let seconds = begun.elapsed().as_secs();
    // What it answers does not matter: how the move ended does.
    session.begin_asking(Procedure::DomainAbortJob, of.args()).await?;
    match session.answer(moving).await {
        Ok(_) => Ok(moved(migration, begun)),
        Err(RpcError::Said(error)) if error.kind() == LibvirtErrorKind::Aborted => {
            let message = format!(
                "moving `{}` was not over within {seconds} s and was called off; the guest is \
                 where it was",
                of.name
            );
            Err(Failure::new(CallEnd::Refused, message).into())
        }
        Err(why) => Err(why.into()),
    }
}
