//! The cases of `cases/jobs` and `cases/plans`: what a runbook does, or a run of a plan, when its
//! calls are answered and its jobs end so and so.

use super::story::{Happening, Story, World};
use crate::{
    Alert, Catalog, JobId, Period, Principal,
    alert::{NewAlert, Received},
    catalog::{Entry, check_document},
    connector::{CallEnd, Failure, Repeat},
    definition::Defined,
    document::{Document, parse_file},
    job::{
        CallOut, ChildEnd, Decided, Event, EventWait, JobCommand, JobEffect, JobState, Launching,
        Place, Question, Resolution, StepEvent,
    },
    plan::Plan,
    runbook::Runbook,
};
use chrono::{DateTime, TimeDelta};
use serde::Deserialize;
use serde_json::Value;
use std::{collections::BTreeMap, fs, path::Path, sync::Arc};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Case {
    case: String,
    /// A runbook or a plan.
    #[serde(alias = "plan")]
    runbook: String,
    /// The contacts that are published.
    #[serde(default)]
    contacts: String,
    /// At which event the node is lost, counted from one.
    #[serde(default)]
    lost: Option<usize>,
    #[serde(default)]
    inputs: Value,
    /// Whether the job belongs to an alarm; raised at first.
    #[serde(default)]
    alarm: bool,
    /// What calls are answered, by place; the last answer stands for all further ones. Others give
    /// `{}` at once.
    #[serde(default)]
    answers: BTreeMap<String, Vec<Answer>>,
    /// What people decide, by place.
    #[serde(default)]
    decides: BTreeMap<String, Decision>,
    /// What comes while an event is waited for, by place.
    #[serde(default)]
    comes: BTreeMap<String, Vec<Comes>>,
    /// How jobs of its own end, by place.
    #[serde(default)]
    jobs: BTreeMap<String, Child>,
    /// What else happens.
    #[serde(default)]
    meanwhile: Vec<Meanwhile>,
    /// What happens, line by line.
    expect: Vec<String>,
    #[serde(default)]
    outputs: Option<Value>,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Answer {
    #[serde(default)]
    after: Option<Period>,
    #[serde(default)]
    gives: Option<Value>,
    #[serde(default)]
    refused: Option<String>,
    #[serde(default)]
    busy: Option<String>,
    #[serde(default)]
    unknown: Option<String>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Meanwhile {
    at: Period,
    #[serde(default)]
    alarm: Option<String>,
    #[serde(default)]
    resolve: Option<Resolution>,
    #[serde(default)]
    pause: Option<String>,
    #[serde(default)]
    resume: bool,
    #[serde(default)]
    cancel: Option<String>,
    #[serde(default)]
    undo: bool,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Decision {
    after: Period,
    choice: String,
    #[serde(default)]
    remark: String,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Comes {
    after: Period,
    source: String,
    alert: NewAlert,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Child {
    after: Period,
    #[serde(default)]
    failed: Option<String>,
    #[serde(default)]
    effect: Option<JobEffect>,
    #[serde(default)]
    outputs: Value,
    /// How long it takes to stop.
    #[serde(default)]
    stops: Option<Period>,
}

struct Answers<'a>(&'a Case, usize);

impl World for Answers<'_> {
    fn is_lost(&mut self) -> bool {
        self.1 += 1;
        self.0.lost == Some(self.1)
    }

    fn decides(&mut self, question: &Question) -> Option<(TimeDelta, Decided)> {
        let Decision { after, choice, remark } =
            self.0.decides.get(question.place.as_str())?.clone();
        Some((
            after.delta(),
            Decided { choice, by: Principal::link("pat"), how: "link".into(), remark },
        ))
    }

    fn brings(&mut self, listening: &EventWait) -> Vec<(TimeDelta, Alert)> {
        let all = self.0.comes.get(listening.place.as_str()).cloned().unwrap_or_default();
        let alert = |c: Comes| {
            let received =
                Received { source: &c.source, received: DateTime::UNIX_EPOCH, fallback_id: "1" };
            (c.after.delta(), c.alert.complete(received).expect("an alert"))
        };
        all.into_iter().map(alert).collect()
    }

    fn has_done(&mut self, launching: &Launching) -> (TimeDelta, ChildEnd) {
        let Child { after, failed, effect, outputs, .. } =
            self.0.jobs[launching.place.as_str()].clone();
        let state = if failed.is_some() { JobState::Failed } else { JobState::Succeeded };
        let end = ChildEnd {
            job: JobId(21),
            state,
            effect: effect.unwrap_or(JobEffect::NotChecked),
            failure: failed,
            outputs,
        };
        (after.delta(), end)
    }

    fn stops(&mut self, place: &Place) -> TimeDelta {
        self.0.jobs[place.as_str()].stops.map_or(TimeDelta::zero(), |p| p.delta())
    }

    fn answer(&mut self, call: &CallOut, nth: usize) -> (TimeDelta, StepEvent) {
        let all = self.0.answers.get(call.place.as_str());
        let answer = all.and_then(|all| all.get(nth).or(all.last())).cloned().unwrap_or_default();
        let repeat = match call.target.operation().expect("an operation").1.split('.').next() {
            Some("safe") => Repeat::Safe,
            Some("keyed") => Repeat::Keyed,
            _ => Repeat::Never,
        };
        let broke = |failure: Failure| StepEvent::Broke { failure, repeat };
        let what = match answer {
            Answer { refused: Some(why), .. } => broke(Failure::lasting(CallEnd::Refused, why)),
            Answer { busy: Some(why), .. } => broke(Failure::new(CallEnd::Refused, why)),
            Answer { unknown: Some(why), .. } => broke(Failure::new(CallEnd::Unknown, why)),
            Answer { gives, .. } => {
                StepEvent::Returned(gives.unwrap_or_else(|| serde_json::json!({})))
            }
        };
        (answer.after.map_or(TimeDelta::zero(), |p| p.delta()), what)
    }
}

fn happening(m: &Meanwhile) -> Happening {
    let event = match m {
        Meanwhile { alarm: Some(state), .. } => return Happening::Alarm(state == "raised"),
        Meanwhile { resolve: Some(word), .. } => Event::Commanded(JobCommand::Resolve {
            place: None::<Place>,
            word: *word,
            output: Value::Null,
        }),
        Meanwhile { pause: Some(words), .. } => {
            Event::Commanded(JobCommand::Pause { words: words.clone() })
        }
        Meanwhile { resume: true, .. } => Event::Commanded(JobCommand::Resume),
        Meanwhile { cancel: Some(words), undo, .. } => {
            Event::Commanded(JobCommand::Cancel { undo: *undo, words: words.clone() })
        }
        _ => panic!("says nothing: {m:?}"),
    };
    Happening::Event(event)
}

fn catalog(case: &Case) -> Catalog {
    let documents =
        parse_file("case.yaml", &case.contacts).unwrap_or_else(|e| panic!("{}: {e:?}", case.case));
    let entry = |document: &Document| {
        let (kind, definition) =
            check_document(document).unwrap_or_else(|e| panic!("{}: {e:#?}", case.case));
        let (name, document) = (document.name.clone(), document.clone());
        Arc::new(Entry { name, version: 1, document: Arc::new(document), kind, definition })
    };
    Catalog::new(documents.iter().map(entry))
}

fn play(case: &Case) -> (Vec<String>, Value) {
    let documents =
        parse_file("case.yaml", &case.runbook).unwrap_or_else(|e| panic!("{}: {e:?}", case.case));
    let runbook = match documents[0].kind.as_str() {
        "plan" => Plan::check(&documents[0]).map(|plan| Runbook::clone(&plan.runbook)),
        _ => Runbook::check(&documents[0]),
    };
    let runbook = runbook.unwrap_or_else(|e| panic!("{}: {e:#?}", case.case));
    let given = case.inputs.as_object().cloned().unwrap_or_default();
    let inputs = Value::Object(runbook.prepare(given, &catalog(case)).expect("fits").inputs);
    let mut story = Story::new(&runbook, inputs, case.alarm, Answers(case, 0));
    story.catalog = Arc::new(catalog(case));
    for m in &case.meanwhile {
        story.at(DateTime::UNIX_EPOCH + m.at.delta(), happening(m));
    }
    story.play();
    (story.trace, story.ended.map_or(Value::Null, |e| e.outputs))
}

#[test]
fn what_is_written_down_happens() {
    hold("jobs", 30);
    hold("plans", 8);
}

fn hold(folder: &str, least: usize) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("cases").join(folder);
    let mut files: Vec<_> =
        fs::read_dir(&folder).expect("a folder").map(|f| f.expect("a file").path()).collect();
    files.sort();
    let (mut played, mut wrong) = (0, Vec::new());
    for file in files {
        let text = fs::read_to_string(&file).expect("reads");
        for text in text.split("\n---\n") {
            let documents = parse_file("case.yaml", text)
                .unwrap_or_else(|e| panic!("{}: {e:?}", file.display()));
            let case: Case =
                documents[0].decode().unwrap_or_else(|e| panic!("{}: {e:#?}", file.display()));
            let (trace, outputs) = play(&case);
            played += 1;
            if trace != case.expect || case.outputs.as_ref().is_some_and(|o| *o != outputs) {
                let lines: Vec<String> =
                    trace.iter().map(|l| format!("  - {}", serde_json::json!(l))).collect();
                wrong.push(format!(
                    "{}: {}\n{}\n  outputs: {outputs}",
                    file.display(),
                    case.case,
                    lines.join("\n")
                ));
            }
        }
    }
    assert!(wrong.is_empty(), "of {played} cases these are otherwise:\n{}", wrong.join("\n\n"));
    assert!(played >= least, "only {played} cases");
}
