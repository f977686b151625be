//! The one way in: a payload of a source becomes alerts that are recorded and decided upon, or is
//! kept with the reason.
//!
//! Every door brings its payloads here and answers its sender by what comes back.

use super::deliver;
use crate::{
    admission::{Admission, KEPT, NotTaken},
    clock,
    metrics::LineLabel,
    node::{Node, Published},
    random,
};
use arvok_api::{DeliveryAnswer, KeptItem};
use arvok_core::{
    Alert, Trial,
    alert::MAX_ID,
    source::{Delivery, ReadOutcome, Source},
    text::cut,
};
use arvok_store::{
    entity::unreadable,
    intake::{Malformed, Payload, TRIAL},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use chrono::{DateTime, TimeDelta, Utc};
use serde_json::{Map, Value};
use std::borrow::Cow;

/// What came longer ago than this has most likely changed since.
const PAST: TimeDelta = TimeDelta::minutes(15);

/// A payload as it came to a door.
#[derive(Debug)]
pub(crate) struct ReceivedMessage<'a> {
    /// Its bytes as they were received.
    pub raw: &'a [u8],
    /// What came beside it, by the names of its intake.
    pub properties: Map<String, Value>,
    /// Whether the sender says that the body is in the normal form.
    pub normal: bool,
    /// A key of the sender's by which what it sends again is known.
    pub key: Option<String>,
    /// How far what follows may go, if all of it is a trial.
    pub trial: Option<Trial>,
}

/// Takes a payload. Of several alerts those that can be read are taken, the others are kept and
/// named, and so is what its source does not say yet how to read.
///
/// # Errors
/// [`NotTaken::Malformed`] if nothing of it can be read or recorded: it is kept;
/// [`NotTaken::Store`] if nothing was kept.
pub(crate) async fn accept(
    node: &Node,
    published: &Published,
    source: &Source,
    message: ReceivedMessage<'_>,
    admission: Admission,
) -> Result<DeliveryAnswer, NotTaken> {
    let received = clock::now();
    let ReceivedMessage { raw, mut properties, normal, key, trial } = message;
    let fallback_id = key.unwrap_or_else(random::id);
    let delivery =
        Delivery { raw, properties: &properties, received, fallback_id: &fallback_id, normal };
    let ReadOutcome { mut alerts, left_out, absent, unreadable } = source.read(&delivery);
    let messages = alerts.len() + left_out + unreadable.len();
    node.source_limits.count(source, messages.max(1));
    let own = trial.map(|trial| (trial, fallback_id.as_str()));
    alerts.iter_mut().for_each(|alert| mark(alert, own));
    let is_caught = unreadable.iter().any(|unread| unread.caught);
    node.shapes.note(source, &alerts);
    if is_caught && trial.is_none() {
        node.shapes.note_caught(source, raw, received);
    }
    for (line, times) in absent {
        let label = LineLabel { source: source.name.clone(), line };
        node.metrics.intake.absent.get_or_create(&label).inc_by(times);
    }
    let nothing = alerts.is_empty() && left_out == 0;
    if trial.is_some() {
        properties.insert(TRIAL.to_owned(), true.into());
    }
    let (mut malformed, mut items) = (Vec::new(), Vec::new());
    for unread in unreadable {
        let reason = published.redactor.text(&unread.reason);
        items.push((unread.item, reason.clone(), unread.caught));
        let (payload, base64) = match &unread.part {
            Some(part) => (Cow::Borrowed(cut(part, KEPT)), false),
            None => as_text(raw),
        };
        malformed.push(Malformed {
            reason,
            payload: payload.into_owned(),
            item: unread.of_each,
            beside: Value::Object(properties.clone()),
            caught: unread.caught,
            base64,
        });
    }
    let source = source.name.clone();
    let payload = Payload { source, received, alerts, malformed, is_past: false };
    let taken = deliver(node, payload, admission).await?;
    let (mut caught, mut unreadable) = (Vec::new(), Vec::new());
    for (id, (item, reason, is_caught)) in taken.kept.into_iter().zip(items) {
        let list = if is_caught { &mut caught } else { &mut unreadable };
        list.push(KeptItem { id, item, reason });
    }
    if nothing && caught.is_empty() && !unreadable.is_empty() {
        let KeptItem { id, reason, .. } = unreadable.swap_remove(0);
        return Err(NotTaken::Malformed { id, reason });
    }
    Ok(DeliveryAnswer { alerts: taken.alerts, left_out, unreadable, caught })
}

/// A payload as it is kept, and whether that is in base64: what is no text is, and so is a text
/// that cannot be stored as it is.
fn as_text(raw: &[u8]) -> (Cow<'_, str>, bool) {
    match str::from_utf8(raw) {
        Ok(text) if !text.contains('\0') => (Cow::Borrowed(cut(text, KEPT)), false),
        _ => (Cow::Owned(BASE64_STANDARD.encode(&raw[..raw.len().min(KEPT)])), true),
    }
}

/// The bytes of a payload that was kept.
pub(crate) fn bytes_of(kept: &unreadable::Model) -> Cow<'_, [u8]> {
    let decoded = kept.base64.then(|| BASE64_STANDARD.decode(&kept.payload).ok()).flatten();
    decoded.map_or(Cow::Borrowed(kept.payload.as_bytes()), Cow::Owned)
}

/// Marks an alert as a trial, if its payload was sent as one or its source reads it as one. No
/// trial takes the id of what is real, which would be taken for a repeated one; and one that a
/// person makes up is new each time.
fn mark(alert: &mut Alert, made_up: Option<(Trial, &str)>) {
    let id = match made_up {
        Some((trial, number)) => {
            alert.trial = Some(trial);
            // Of one without an id the number is its id already.
            let own = alert.id.strip_prefix(number).unwrap_or(&alert.id);
            format!("trial {number} {own}").trim_end().to_owned()
        }
        None if alert.trial.is_some() => format!("trial {}", alert.id),
        None => return,
    };
    alert.id = cut(&id, MAX_ID).to_owned();
}

/// What became of a payload that was kept.
#[derive(Debug)]
pub(crate) enum Again {
    /// It was taken: so many alerts that were not known yet, and whether they are recorded alone.
    Taken { alerts: u64, is_past: bool },
    /// It still cannot be read.
    Still(String),
    /// There is no room at the moment.
    Full,
}

/// Takes a payload that was kept: as if it came now if it did lately, or if rules are to decide
/// about it all the same; else its alerts are recorded and nothing follows from them.
///
/// # Errors
/// If the records cannot be written.
pub(crate) async fn accept_again(
    node: &Node,
    source: &Source,
    kept: &unreadable::Model,
    acting: bool,
) -> Result<Again, NotTaken> {
    let received = clock::now();
    let is_past = !acting && kept.received < received - PAST;
    let as_of = if is_past { kept.received } else { received };
    let outcome = match read_again(source, kept, as_of) {
        Ok(outcome) => outcome,
        Err(reason) => return Ok(Again::Still(reason)),
    };
    let Some(admission) = node.admission.admit(&source.name, kept.payload.len()) else {
        return Ok(Again::Full);
    };
    let mut alerts = outcome.alerts;
    alerts.iter_mut().for_each(|alert| alert.received = received);
    node.shapes.note(source, &alerts);
    let source = source.name.clone();
    let payload = Payload { source, received, alerts, malformed: Vec::new(), is_past };
    match deliver(node, payload, admission).await {
        Ok(taken) => {
            let new = taken.alerts.iter().filter(|alert| !alert.duplicate);
            Ok(Again::Taken { alerts: new.count() as u64, is_past })
        }
        Err(NotTaken::Malformed { reason, .. }) => Ok(Again::Still(reason)),
        Err(e) => Err(e),
    }
}

/// What a payload that was kept is read as, of what came at a time.
fn read_again(
    source: &Source,
    kept: &unreadable::Model,
    received: DateTime<Utc>,
) -> Result<ReadOutcome, String> {
    let raw = bytes_of(kept);
    let is_json = || serde_json::from_slice::<serde::de::IgnoredAny>(&raw).is_ok();
    let cut_short = raw.len() + 4 > KEPT && !is_json();
    if cut_short {
        return Err("was cut when it was kept; have it sent again".into());
    }
    // The same id each time, so that a second try after a death takes nothing twice.
    let fallback_id = format!("unreadable-{}", kept.id);
    let properties = kept.beside.as_ref().and_then(Value::as_object).cloned().unwrap_or_default();
    let normal = properties.get("normal") == Some(&Value::Bool(true));
    let delivery = Delivery {
        raw: &raw,
        properties: &properties,
        received,
        fallback_id: &fallback_id,
        normal,
    };
    let mut outcome = match kept.item && !normal {
        true => source.read_item(&delivery)?,
        false => source.read(&delivery),
    };
    let is_trial = properties.get(TRIAL) == Some(&Value::Bool(true));
    let made_up = is_trial.then_some((Trial::Dry, fallback_id.as_str()));
    outcome.alerts.iter_mut().for_each(|alert| mark(alert, made_up));
    match outcome.unreadable.first() {
        Some(unread) => Err(unread.reason.clone()),
        None => Ok(outcome),
    }
}
