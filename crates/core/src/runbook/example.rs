//! `examples`: how a job of a runbook goes when its calls are answered so and so, written beside
//! it. How they are played is [`crate::job`]'s.

use super::{ANNOUNCED, Runbook, Step, all};
use crate::{
    Period,
    document::Checker,
    job_state::{JobEffect, JobState, Resolution},
    text::hint,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};

/// What a job is given, what happens to it, and how it should end.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct JobExampleDoc {
    /// One line for people.
    #[serde(default)]
    pub summary: Option<String>,
    /// What it is launched with.
    #[serde(default)]
    pub inputs: Map<String, Value>,
    /// What runs before have remembered; those that are not named are as for the first run.
    #[serde(default)]
    pub memory: Map<String, Value>,
    /// Whether it belongs to an alarm, which stands. Left out: it does not.
    #[serde(default)]
    pub alarm: bool,
    /// The alert that it is about: fields of the normal form. Left out: none.
    #[serde(default)]
    pub alert: Option<Map<String, Value>>,
    /// What comes to steps, by their places (`pool[0].grow`) or else their ids: answers of calls,
    /// choices of people, events, outputs of jobs. One or a list; the last stands for all further
    /// ones. Calls and jobs that are not named here are answered `{}` at once, nobody decides, and
    /// no event comes.
    #[serde(default)]
    pub answers: BTreeMap<String, Answers>,
    /// What else happens.
    #[serde(default)]
    pub meanwhile: Vec<MeanwhileDoc>,
    /// How it should end.
    pub expect: ExpectJobDoc,
}

/// One answer or several.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Answers {
    /// The same each time.
    One(AnswerDoc),
    /// One after the other.
    Several(Vec<AnswerDoc>),
}

impl Answers {
    /// All of them, in their order.
    pub fn all(&self) -> &[AnswerDoc] {
        match self {
            Self::One(answer) => std::slice::from_ref(answer),
            Self::Several(all) => all,
        }
    }

    /// The answer that comes after so many others.
    pub fn nth(&self, n: usize) -> Option<&AnswerDoc> {
        match self {
            Self::One(answer) => Some(answer),
            Self::Several(all) => all.get(n).or(all.last()),
        }
    }
}

/// What comes to a step.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct AnswerDoc {
    /// After which time. Left out: at once.
    #[serde(default)]
    pub after: Option<Period>,
    /// What it gives: a call's output, the name of a choice, an event's fields, a job's outputs.
    #[serde(default)]
    pub gives: Option<Value>,
    /// It is refused for good, and why; of a job: it failed.
    #[serde(default)]
    pub refused: Option<String>,
    /// It is refused for now, and why.
    #[serde(default)]
    pub busy: Option<String>,
    /// Nobody knows whether it was done, and why.
    #[serde(default)]
    pub unknown: Option<String>,
    /// How long a job of a step takes to stop.
    #[serde(default)]
    pub stops: Option<Period>,
}

/// Something that happens to a job.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MeanwhileDoc {
    /// When, from the beginning.
    pub at: Period,
    /// Its alarm is raised, or cleared; at 0s it is so before the job begins.
    #[serde(default)]
    pub alarm: Option<AlarmWord>,
    /// A person says what became of the step that is unsure: `done`, `again`, `failed`.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub resolve: Option<Resolution>,
    /// A person holds it, and why.
    #[serde(default)]
    pub pause: Option<String>,
    /// A person lets it go on.
    #[serde(default)]
    pub resume: bool,
    /// A person stops it, and why.
    #[serde(default)]
    pub cancel: Option<String>,
    /// With `cancel`: what was done is taken back.
    #[serde(default)]
    pub undo: bool,
}

/// What becomes of an alarm.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum AlarmWord {
    /// It stands.
    Raised,
    /// It is over.
    Cleared,
}

/// How a job should end. What is not named may be anything.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExpectJobDoc {
    /// Its state; `unsure` and `paused` where nothing more happens by itself.
    #[schemars(with = "String")]
    pub state: JobState,
    /// Whether it helped: `confirmed`, `unconfirmed`, `not checked`.
    #[serde(default)]
    #[schemars(with = "Option<String>")]
    pub effect: Option<JobEffect>,
    /// What is told of why; these words are among them.
    #[serde(default)]
    pub failure: Option<String>,
    /// The places of all calls that go out, in their order.
    #[serde(default)]
    pub calls: Option<Vec<String>>,
    /// The kinds of all events that it emits, in their order.
    #[serde(default)]
    pub emits: Option<Vec<String>>,
    /// What it gives; those that are not named may be anything.
    #[serde(default)]
    pub outputs: Option<Map<String, Value>>,
    /// What is remembered then; those that are not named may be anything.
    #[serde(default)]
    pub remembers: Option<Map<String, Value>>,
}

/// Most examples of a runbook, and most answers and happenings of one.
const MOST: (usize, usize) = (100, 500);

/// Complains about what no job could ever meet.
pub(super) fn check(check: &mut Checker<'_>, examples: &[JobExampleDoc], runbook: &Runbook) {
    if examples.len() > MOST.0 {
        check.fail("/examples", format!("are {}; {} are allowed", examples.len(), MOST.0));
    }
    let steps = runbook.lists().into_iter().flat_map(|(_, steps)| all(steps));
    let parts = ["undo", "probe", "told", "reached", ANNOUNCED];
    let ids: BTreeSet<&str> = steps.map(|s: &Step| s.id.as_str()).chain(parts).collect();
    for (i, example) in examples.iter().enumerate() {
        let at = format!("/examples/{i}");
        let many = example.answers.len() + example.meanwhile.len();
        if many > MOST.1 {
            check.fail(&at, format!("has {many} answers and happenings; {} are allowed", MOST.1));
        }
        for place in example.answers.keys() {
            let id = place.rsplit('.').next().unwrap_or(place);
            if !ids.contains(id) {
                let hint = hint(id, ids.iter().copied());
                let key = place.replace('~', "~0").replace('/', "~1");
                check
                    .fail(&format!("{at}/answers/{key}"), format!("there is no step `{id}`{hint}"));
            }
        }
    }
}
