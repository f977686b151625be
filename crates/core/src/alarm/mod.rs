//! Alarms (RFC 8632): the lasting state that alerts raise and clear, one for each source,
//! resource and kind.
//!
//! Owns what an alert changes about its alarm. Where alarms are kept is the store's business.

use crate::{Alert, AlertState, Severity};
use chrono::{DateTime, Utc};

/// What stands, or stood.
#[derive(Clone, Debug, PartialEq)]
pub struct Alarm {
    /// Whether it stands.
    pub raised: bool,
    /// The severity of the last raise.
    pub severity: Severity,
    /// Of the last alert.
    pub summary: String,
    /// Of the last alert.
    pub value: Option<f64>,
    /// Raising alerts since it was last raised anew.
    pub count: i64,
    /// When it was last raised anew.
    pub raised_at: DateTime<Utc>,
    /// When it was last raised anew, worsened, eased or cleared.
    pub changed_at: DateTime<Utc>,
    /// When it was last cleared.
    pub cleared_at: Option<DateTime<Utc>>,
    /// The sender's time of the newest alert about it: what was sent before that and arrives
    /// after it changes nothing.
    pub last_sent_at: Option<DateTime<Utc>>,
}

crate::words! {
    /// What a person did about an alarm (RFC 8632, 4.4: the operator's part of its state).
    pub enum AlarmAct("act on an alarm") {
        /// Somebody sees to it.
        Acknowledged = "acknowledged",
        /// Something was said of it.
        Noted = "noted",
        /// It was cleared by hand.
        Cleared = "cleared",
    }
}

/// What an alert changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AlarmChange {
    /// It stands now and did not before.
    Raised,
    /// It stood before and stands.
    Repeated,
    /// It stood and is over.
    Cleared,
    /// Nothing: a clearing of what does not stand, or an alert without lasting state.
    Nothing,
    /// Nothing: it was sent before the alarm was cleared, at this time of the sender's, and
    /// arrived after.
    Late(DateTime<Utc>),
}

impl Alarm {
    /// An alarm that has never stood.
    pub fn unknown(at: DateTime<Utc>) -> Self {
        Self {
            raised: false,
            severity: Severity::Indeterminate,
            summary: String::new(),
            value: None,
            count: 0,
            raised_at: at,
            changed_at: at,
            cleared_at: None,
            last_sent_at: None,
        }
    }

    /// Takes an alert of this source, resource and kind.
    pub fn apply(&mut self, alert: &Alert) -> AlarmChange {
        let now = alert.received;
        // Only the sender's own time can tell that it was sent before. What has none, or is ahead
        // of us, is stamped with the time of its arrival by whichever node it came to, and clocks
        // are never quite alike: such an alert is as new as its arrival.
        let older =
            self.last_sent_at.filter(|last| alert.time < alert.received && alert.time < *last);
        if alert.state != AlertState::Noted && older.is_none() {
            self.last_sent_at = self.last_sent_at.max(Some(alert.happened()));
        }
        match (alert.state, self.raised) {
            (AlertState::Noted, _) | (AlertState::Cleared, false) => AlarmChange::Nothing,
            (AlertState::Raised, false) if let Some(over) = older => AlarmChange::Late(over),
            (AlertState::Cleared, true) if older.is_some() => AlarmChange::Nothing,
            (AlertState::Raised, true) if older.is_some() => {
                self.count += 1;
                AlarmChange::Repeated
            }
            (AlertState::Cleared, true) => {
                self.raised = false;
                self.changed_at = now;
                self.cleared_at = Some(now);
                self.describe(alert);
                AlarmChange::Cleared
            }
            (AlertState::Raised, stood) => {
                if !stood {
                    (self.raised, self.raised_at, self.count) = (true, now, 0);
                }
                if !stood || self.severity != alert.severity {
                    self.changed_at = now;
                }
                self.severity = alert.severity;
                self.count += 1;
                self.describe(alert);
                if stood { AlarmChange::Repeated } else { AlarmChange::Raised }
            }
        }
    }

    fn describe(&mut self, alert: &Alert) {
        self.summary.clone_from(&alert.summary);
        self.value = alert.value;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{NewAlert, alert::Received};
    use chrono::TimeDelta;
    use serde_json::json;

    fn alert(second: i64, state: &str, severity: &str) -> Alert {
        sent(second, second, state, severity)
    }

    fn sent(time: i64, received: i64, state: &str, severity: &str) -> Alert {
        let at = |second| DateTime::UNIX_EPOCH + TimeDelta::seconds(second);
        let new: NewAlert = serde_json::from_value(json!({
            "kind": "disk.usage", "resource": "vm/a", "state": state, "severity": severity,
                "value": time, "time": at(time)
        }))
        .expect("reads");
        let received = at(received);
        new.complete(Received { source: "s", received, fallback_id: "i" }).expect("completes")
    }

    #[test]
    fn raised_repeated_worsened_cleared_and_raised_anew() {
        let mut alarm = Alarm::unknown(DateTime::UNIX_EPOCH);
        let story = [
            (1, "cleared", "major", AlarmChange::Nothing, 0, 0),
            (2, "raised", "minor", AlarmChange::Raised, 1, 2),
            (3, "raised", "minor", AlarmChange::Repeated, 2, 2),
            (4, "raised", "major", AlarmChange::Repeated, 3, 4),
            (5, "noted", "major", AlarmChange::Nothing, 3, 4),
            (6, "cleared", "major", AlarmChange::Cleared, 3, 6),
            (7, "raised", "minor", AlarmChange::Raised, 1, 7),
        ];
        for (second, state, severity, change, count, changed) in story {
            assert_eq!(alarm.apply(&alert(second, state, severity)), change, "second {second}");
            assert_eq!(
                (alarm.count, alarm.changed_at.timestamp()),
                (count, changed),
                "second {second}"
            );
        }
        assert_eq!(alarm.cleared_at.map(|t| t.timestamp()), Some(6));
    }

    #[test]
    fn what_was_sent_before_and_arrives_after_changes_nothing() {
        let mut alarm = Alarm::unknown(DateTime::UNIX_EPOCH);
        let over = DateTime::UNIX_EPOCH + TimeDelta::seconds(20);
        assert_eq!(alarm.apply(&sent(10, 10, "raised", "major")), AlarmChange::Raised);
        assert_eq!(alarm.apply(&sent(9, 11, "cleared", "major")), AlarmChange::Nothing);
        assert_eq!(alarm.apply(&sent(9, 12, "raised", "critical")), AlarmChange::Repeated);
        assert_eq!((alarm.severity, alarm.value, alarm.count), (Severity::Major, Some(10.0), 2));
        assert_eq!(alarm.apply(&sent(20, 21, "cleared", "major")), AlarmChange::Cleared);
        assert_eq!(alarm.apply(&sent(15, 22, "raised", "major")), AlarmChange::Late(over));
        assert_eq!(
            alarm.apply(&sent(20, 23, "raised", "major")),
            AlarmChange::Raised,
            "the same moment is not before"
        );
    }

    #[test]
    fn what_is_only_noted_makes_nothing_late() {
        let mut alarm = Alarm::unknown(DateTime::UNIX_EPOCH);
        assert_eq!(alarm.apply(&sent(5, 6, "raised", "major")), AlarmChange::Raised);
        assert_eq!(alarm.apply(&sent(10, 11, "noted", "major")), AlarmChange::Nothing);
        assert_eq!(alarm.apply(&sent(8, 12, "cleared", "major")), AlarmChange::Cleared);
    }

    /// Two nodes stamp what has no time of its own, the second by a clock that is a little behind.
    #[test]
    fn a_clearing_that_comes_after_is_not_before_for_the_clocks_of_nodes() {
        let mut alarm = Alarm::unknown(DateTime::UNIX_EPOCH);
        assert_eq!(alarm.apply(&sent(10, 10, "raised", "major")), AlarmChange::Raised);
        assert_eq!(alarm.apply(&sent(9, 9, "cleared", "major")), AlarmChange::Cleared);
        assert_eq!(
            alarm.apply(&sent(11, 10, "raised", "major")),
            AlarmChange::Raised,
            "a sender ahead of us"
        );
        assert_eq!(alarm.apply(&sent(12, 9, "cleared", "major")), AlarmChange::Cleared);
        assert_eq!(
            alarm.last_sent_at.map(|t| t.timestamp()),
            Some(10),
            "and what is known does not go back"
        );
    }
}
