//! `settle`: when matching alerts count. The document and its checks; what the lines do is
//! [`crate::settle`].

use super::ALERT;
use crate::{
    AlertState, Period,
    document::{Checker, Texts},
    expr::Expr,
    touch::LONGEST,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Most of anything that a line counts.
const MOST: u32 = 1000;

/// When matching alerts count. Every line is optional; they are applied in the order: symptoms,
/// after, untouched, flapping, still, rest, gather, cap.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SettleDoc {
    /// Expressions; alerts with equal values share one tally. Left out: source, resource, kind.
    #[serde(default)]
    pub fold: Option<Texts>,
    /// So many matching alerts within a sliding window.
    #[serde(default)]
    pub after: Option<AfterDoc>,
    /// The alarm must stay raised for so long; clearing cancels.
    #[serde(default)]
    pub still: Option<Period>,
    /// Fires when no matching alert came for so long.
    #[serde(default)]
    pub missing: Option<Period>,
    /// Holds while the alarm changes its state so often.
    #[serde(default)]
    pub flapping: Option<FlappingDoc>,
    /// Collects several tallies into one dispatch.
    #[serde(default)]
    pub gather: Option<GatherDoc>,
    /// After a dispatch the same tally stays silent for so long.
    #[serde(default)]
    pub rest: Option<Period>,
    /// Keeps away from a resource that a job touched, while it goes on and for so long after it.
    #[serde(default)]
    pub untouched: Option<Period>,
    /// Dispatches once more while the alarm is still raised.
    #[serde(default)]
    pub again: Option<AgainDoc>,
    /// A limit across tallies.
    #[serde(default)]
    pub cap: Option<CapDoc>,
    /// What becomes of alarms that an alarm upstream explains. Left out: `skip`.
    #[serde(default)]
    pub symptoms: Symptoms,
}

/// A number of alerts within a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AfterDoc {
    /// How many, 2 to 1000.
    pub alerts: u32,
    /// From the first to the last of them, both belonging.
    pub within: Period,
}

/// A number of changes within a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct FlappingDoc {
    /// How many times it was raised anew or cleared, 2 to 1000.
    pub changes: u32,
    /// From the first to the last of them, both belonging.
    pub within: Period,
}

/// Collecting tallies.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GatherDoc {
    /// For how long, from the first.
    #[serde(rename = "for")]
    pub span: Period,
    /// Expressions; only tallies with equal values come together. Left out: all of the rule's.
    #[serde(default)]
    pub by: Texts,
    /// With so many it dispatches at once, at most 1000. Left out: 100.
    #[serde(default)]
    pub at_most: Option<u32>,
}

/// Dispatching once more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AgainDoc {
    /// So long after the last dispatch.
    #[serde(default)]
    pub every: Option<Period>,
    /// So many times in an episode, not counting the first. Left out: as long as it stands.
    #[serde(default)]
    pub at_most: Option<u32>,
    /// Whenever an alert is more severe than the one that was dispatched for.
    #[serde(default)]
    pub when_worse: bool,
}

/// A limit across tallies.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CapDoc {
    /// How many dispatches, 1 to 1000.
    pub jobs: u32,
    /// Within which time.
    pub per: Period,
    /// Expressions; each value has a limit of its own. Left out: one limit for the rule.
    #[serde(default)]
    pub by: Texts,
    /// Whether what is still raised is tried when there is room again.
    #[serde(default)]
    pub later: bool,
}

/// What becomes of explained alarms.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Symptoms {
    /// They are folded under their cause.
    #[default]
    Skip,
    /// They count like any other.
    Include,
}

/// Checked lines.
#[derive(Clone, Debug, Default)]
pub struct Settle {
    /// What makes a tally; absent: source, resource, kind.
    pub fold: Option<Vec<Expr>>,
    /// Enough alerts.
    pub after: Option<AfterDoc>,
    /// Raised for long enough.
    pub still: Option<Period>,
    /// Silence.
    pub missing: Option<Period>,
    /// Coming and going.
    pub flapping: Option<FlappingDoc>,
    /// Several tallies into one.
    pub gather: Option<Gather>,
    /// Silence after a dispatch.
    pub rest: Option<Period>,
    /// Distance from what a job touched.
    pub untouched: Option<Period>,
    /// Once more.
    pub again: Option<Again>,
    /// A limit.
    pub cap: Option<Cap>,
    /// Explained alarms.
    pub symptoms: Symptoms,
}

/// Checked `gather`.
#[derive(Clone, Debug)]
pub struct Gather {
    /// For how long.
    pub span: Period,
    /// What comes together.
    pub by: Vec<Expr>,
    /// How many at most.
    pub at_most: u32,
}

/// Checked `again`.
#[derive(Clone, Copy, Debug)]
pub struct Again {
    /// How long after the last.
    pub every: Option<Period>,
    /// How many times; the greatest number stands for no end.
    pub at_most: u32,
    /// Whether worsening counts.
    pub when_worse: bool,
}

/// Checked `cap`.
#[derive(Clone, Debug)]
pub struct Cap {
    /// How many.
    pub jobs: u32,
    /// Within which time.
    pub per: Period,
    /// What has a limit of its own.
    pub by: Vec<Expr>,
    /// Whether to try later.
    pub later: bool,
}

impl Settle {
    pub(super) fn check(
        check: &mut Checker<'_>,
        doc: SettleDoc,
        states: &[AlertState],
    ) -> Option<Self> {
        counted(check, &doc);
        combined(check, &doc, states);
        let fold = match &doc.fold {
            None => None,
            Some(texts) => Some(exprs(check, "/settle/fold", texts)?),
        };
        let gather = match &doc.gather {
            None => None,
            Some(g) => {
                let by = exprs(check, "/settle/gather/by", &g.by)?;
                Some(Gather { span: g.span, by, at_most: g.at_most.unwrap_or(100) })
            }
        };
        let cap = match &doc.cap {
            None => None,
            Some(c) => {
                let by = exprs(check, "/settle/cap/by", &c.by)?;
                Some(Cap { jobs: c.jobs, per: c.per, by, later: c.later })
            }
        };
        let again = doc.again.map(|a| Again {
            every: a.every,
            at_most: a.at_most.unwrap_or(u32::MAX),
            when_worse: a.when_worse,
        });
        Some(Self {
            fold,
            after: doc.after,
            still: doc.still,
            missing: doc.missing,
            flapping: doc.flapping,
            gather,
            rest: doc.rest,
            untouched: doc.untouched,
            again,
            cap,
            symptoms: doc.symptoms,
        })
    }
}

fn exprs(check: &mut Checker<'_>, pointer: &str, texts: &Texts) -> Option<Vec<Expr>> {
    let one = check.document().value.pointer(pointer).is_some_and(serde_json::Value::is_string);
    let made: Vec<_> =
        texts.placed(pointer, one).map(|(at, text)| check.expr(&at, text, ALERT)).collect();
    made.into_iter().collect()
}

/// Numbers and times that make no sense.
fn counted(check: &mut Checker<'_>, doc: &SettleDoc) {
    let mut number = |pointer: &str, n: Option<u32>, least: u32| {
        if let Some(n) = n.filter(|n| !(least..=MOST).contains(n)) {
            check.fail(pointer, format!("is {n}; {least} to {MOST} are allowed"));
        }
    };
    number("/settle/after/alerts", doc.after.map(|a| a.alerts), 2);
    number("/settle/flapping/changes", doc.flapping.map(|f| f.changes), 2);
    number("/settle/gather/at_most", doc.gather.as_ref().and_then(|g| g.at_most), 2);
    number("/settle/again/at_most", doc.again.and_then(|a| a.at_most), 1);
    number("/settle/cap/jobs", doc.cap.as_ref().map(|c| c.jobs), 1);
    for (pointer, period) in [
        ("/settle/after/within", doc.after.map(|a| a.within)),
        ("/settle/still", doc.still),
        ("/settle/missing", doc.missing),
        ("/settle/flapping/within", doc.flapping.map(|f| f.within)),
        ("/settle/gather/for", doc.gather.as_ref().map(|g| g.span)),
        ("/settle/untouched", doc.untouched),
        ("/settle/again/every", doc.again.and_then(|a| a.every)),
        ("/settle/cap/per", doc.cap.as_ref().map(|c| c.per)),
    ] {
        if period.is_some_and(|p| p.millis() == 0) {
            check.fail(pointer, "is no time at all; leave the line out, or give it a time");
        }
    }
    if doc.untouched.is_some_and(|untouched| untouched > LONGEST) {
        check.fail("/settle/untouched", format!("is more than {LONGEST}, the most"));
    }
}

/// Lines that do not go together.
fn combined(check: &mut Checker<'_>, doc: &SettleDoc, states: &[AlertState]) {
    let lasting = states == [AlertState::Raised];
    for (key, there) in [
        ("still", doc.still.is_some()),
        ("flapping", doc.flapping.is_some()),
        ("again", doc.again.is_some()),
    ] {
        let pointer = format!("/settle/{key}");
        if there && !lasting {
            check.fail(
                &pointer,
                format!(
                    "`{key}` is about alarms that stay raised; let the rule listen to raised \
                    alerts only"
                ),
            );
        }
        if there && doc.missing.is_some() {
            check.fail(
                &pointer,
                format!(
                    "`{key}` is about raised alarms and `missing` about silence; make two \
                    rules of it"
                ),
            );
        }
    }
    if doc.after.is_some() && doc.missing.is_some() {
        check.fail(
            "/settle/after",
            "`after` counts alerts and `missing` waits for their absence; make two rules of it",
        );
    }
    if doc.again.is_some() && doc.gather.is_some() {
        check.fail(
            "/settle/again",
            "`again` is about one tally and `gather` about several; make two rules of it",
        );
    }
    if let Some(again) = doc.again
        && again.every.is_none()
        && !again.when_worse
    {
        check.fail(
            "/settle/again",
            "says neither `every` nor `when_worse`, so that nothing would happen again",
        );
    }
}
