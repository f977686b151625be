//! What sources send of each kind, gathered while it is taken, until it is written.

use arvok_core::{Alert, shape::Shape, source::Source};
use arvok_store::shapes::ShapeKey;
use chrono::{DateTime, Utc};
use std::{
    collections::BTreeMap,
    sync::{Mutex, MutexGuard, PoisonError},
};

/// Most shapes that are gathered at once; of further kinds nothing is noted until they are written.
const MAX_SHAPES: usize = 1_000;
/// Most shapes of one transaction.
const AT_ONCE: usize = 50;

/// The shapes of what came since they were written last.
#[derive(Debug, Default)]
pub(crate) struct SourceShapes(Mutex<BTreeMap<ShapeKey, Shape>>);

impl SourceShapes {
    /// Notes alerts of a source, those that are made up apart.
    pub fn note(&self, source: &Source, alerts: &[Alert]) {
        let mut all = self.all();
        for alert in alerts.iter().filter(|alert| alert.trial.is_none()) {
            let key = (source.name.clone(), alert.kind.clone());
            if let Some(shape) = shape_of(&mut all, key, alert.received) {
                shape.note_alert(alert, &source.masks);
            }
        }
    }

    /// Notes a payload that its source does not say yet how to read.
    pub fn note_caught(&self, source: &Source, raw: &[u8], received: DateTime<Utc>) {
        let key = || (source.name.clone(), String::new());
        let is_looked_at = self.all().get(&key()).is_none_or(Shape::looks_at_next);
        // Parsed without holding up whoever else has something to note.
        let payload = if is_looked_at { serde_json::from_slice(raw).ok() } else { None };
        if is_looked_at && payload.is_none() {
            return;
        }
        let mut all = self.all();
        let Some(shape) = shape_of(&mut all, key(), received) else { return };
        match payload {
            Some(payload) => shape.note_payload(&payload, received, &source.masks),
            None => shape.count_payload(received),
        }
    }

    /// Some of the shapes that are not written yet.
    pub fn take(&self) -> BTreeMap<ShapeKey, Shape> {
        let mut all = self.all();
        let keys: Vec<ShapeKey> = all.keys().take(AT_ONCE).cloned().collect();
        keys.iter().filter_map(|key| all.remove_entry(key)).collect()
    }

    /// Brings back what could not be written.
    pub fn give_back(&self, shapes: BTreeMap<ShapeKey, Shape>) {
        let mut all = self.all();
        for (key, mut shape) in shapes {
            if let Some(later) = all.remove(&key) {
                shape.merge(later);
            }
            all.insert(key, shape);
        }
    }

    fn all(&self) -> MutexGuard<'_, BTreeMap<ShapeKey, Shape>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn shape_of(
    all: &mut BTreeMap<ShapeKey, Shape>,
    key: ShapeKey,
    at: DateTime<Utc>,
) -> Option<&mut Shape> {
    if all.len() >= MAX_SHAPES && !all.contains_key(&key) {
        return None;
    }
    Some(all.entry(key).or_insert_with(|| Shape::new(at)))
}
