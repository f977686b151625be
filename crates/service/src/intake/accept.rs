//! The one way in: a payload of a source becomes alerts that are recorded and decided upon, or is kept with the reason.
//!
//! Every door brings its payloads here and answers its sender by what comes back.

use super::deliver;
use crate::{
    clock,
    door::{Admission, KEPT, NotTaken},
    metrics::LineLabel,
    node::{Node, Published},
    random,
};
use arvok_api::{KeptItem, Taken};
use arvok_core::{
    bounds::{depth_complaint, too_deep},
    source::{Payload, ReadOutcome, Source},
    text::{clean_json, cut},
};
use arvok_store::{
    entity::unreadable,
    intake::{Parcel, Strange},
};
use serde_json::{Map, Value};

/// A payload as it came to a door.
#[derive(Debug)]
pub(crate) struct Message<'a> {
    /// The body as it was received.
    pub raw: &'a [u8],
    /// What else the intake offers to expressions.
    pub beside: &'a [(&'static str, &'a Value)],
    /// Whether the sender says that the body is in the normal form.
    pub normal: bool,
    /// A key of the sender's by which what it sends again is known.
    pub key: Option<String>,
}

/// Takes a payload. Of several alerts those that can be read are taken, the others are kept and named.
///
/// # Errors
/// [`NotTaken::Strange`] if nothing of it can be read or recorded: it is kept; [`NotTaken::Store`] if nothing was kept.
pub(crate) async fn accept(
    node: &Node,
    published: &Published,
    source: &Source,
    message: Message<'_>,
    admission: Admission,
) -> Result<Taken, NotTaken> {
    let received = clock::now();
    let offered: Map<String, Value> =
        message.beside.iter().map(|(name, value)| ((*name).to_owned(), (*value).clone())).collect();
    let strange = |reason: String, text: &str, item: bool| Strange {
        reason: published.redactor.text(&reason),
        payload: cut(text, KEPT).to_owned(),
        item,
        beside: Value::Object(offered.clone()),
    };
    let mut parcel = Parcel { source: source.name.clone(), received, ..Parcel::default() };
    let mut left_out = 0;
    let mut items = Vec::new();
    let Message { raw, beside, normal, key } = message;
    let fallback_id = key.unwrap_or_else(random::id);
    let read = json(raw).and_then(|body| {
        let payload = Payload { body: &body, beside, received, fallback_id: &fallback_id, normal };
        source.read(payload).map_err(|e| e.to_string())
    });
    match read {
        Ok(outcome) => {
            parcel.alerts = outcome.alerts;
            left_out = outcome.left_out;
            for (line, times) in outcome.absent {
                let label = LineLabel { source: source.name.clone(), line };
                node.metrics.intake.absent.get_or_create(&label).inc_by(times);
            }
            for (why, item) in outcome.unreadable {
                items.push(why.item);
                parcel.strange.push(strange(why.to_string(), &item.to_string(), true));
            }
        }
        Err(reason) => parcel.strange.push(strange(reason, &String::from_utf8_lossy(raw), false)),
    }
    let nothing = parcel.alerts.is_empty() && left_out == 0;
    let reasons: Vec<String> = parcel.strange.iter().map(|s| s.reason.clone()).collect();
    let taken = deliver(node, parcel, admission).await?;
    let mut kept = taken.kept.into_iter().zip(reasons);
    if nothing && let Some((id, reason)) = kept.next() {
        return Err(NotTaken::Strange { id, reason });
    }
    let unreadable = items.into_iter().zip(kept).map(|(item, (id, reason))| KeptItem { id, item, reason }).collect();
    Ok(Taken { alerts: taken.alerts, left_out, unreadable })
}

fn json(raw: &[u8]) -> Result<Value, String> {
    let json: Value = serde_json::from_slice(raw).map_err(|e| format!("is not JSON: {e}"))?;
    if too_deep(&json) { Err(depth_complaint()) } else { Ok(clean_json(json)) }
}

/// What became of a payload that was kept.
#[derive(Debug)]
pub(crate) enum Again {
    /// It was taken: so many alerts that were not known yet.
    Taken(u64),
    /// It still cannot be read.
    Still(String),
    /// There is no room at the moment.
    Full,
}

/// Takes a payload that was kept, as if it came now.
///
/// # Errors
/// If the records cannot be written.
pub(crate) async fn accept_again(node: &Node, source: &Source, kept: &unreadable::Model) -> Result<Again, NotTaken> {
    let outcome = match read_again(source, kept) {
        Ok(outcome) => outcome,
        Err(reason) => return Ok(Again::Still(reason)),
    };
    let Some(admission) = node.door.admit(&source.name, kept.payload.len()) else { return Ok(Again::Full) };
    let parcel =
        Parcel { source: source.name.clone(), received: clock::now(), alerts: outcome.alerts, strange: Vec::new() };
    match deliver(node, parcel, admission).await {
        Ok(taken) => Ok(Again::Taken(taken.alerts.iter().filter(|a| !a.duplicate).count() as u64)),
        Err(NotTaken::Strange { reason, .. }) => Ok(Again::Still(reason)),
        Err(e) => Err(e),
    }
}

fn read_again(source: &Source, kept: &unreadable::Model) -> Result<ReadOutcome, String> {
    let cut_short = kept.payload.len() + 4 > KEPT && serde_json::from_str::<Value>(&kept.payload).is_err();
    if cut_short {
        return Err("was cut when it was kept; have it sent again".into());
    }
    let body = json(kept.payload.as_bytes())?;
    // The same id each time, so that a second try after a death takes nothing twice.
    let fallback_id = format!("unreadable-{}", kept.id);
    // What came beside it; nothing of what was kept before that was.
    let nothing = Value::Object(Map::new());
    let offered = |name: &str| kept.beside.as_ref().and_then(|beside| beside.get(name)).unwrap_or(&nothing);
    let beside: Vec<_> = source.intake.offers().iter().filter(|n| **n != "body").map(|n| (*n, offered(n))).collect();
    let normal = offered("normal") == &Value::Bool(true);
    let payload = Payload { body: &body, beside: &beside, received: clock::now(), fallback_id: &fallback_id, normal };
    let outcome = if kept.item && !normal { source.read_item(payload) } else { source.read(payload) };
    let outcome = outcome.map_err(|e| e.to_string())?;
    match outcome.unreadable.first() {
        Some((why, _)) => Err(why.to_string()),
        None => Ok(outcome),
    }
}
