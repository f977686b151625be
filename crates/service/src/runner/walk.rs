//! One job, from one recorded event to the next. Any number of its calls may be out at once; what comes back is
//! recorded one by one.

use super::{
    outside::{launch, link_for, recall},
    record::{Outward, complete, divide, end, look_again},
};
use crate::{
    calls::{self, CallBack, Outgoing, answer_kept, replace},
    clock,
    insist::insist,
    metrics::EndLabel,
    node::Node,
};
use arvok_api::Change;
use arvok_connect::Called;
use arvok_core::{
    AlarmId, Alert, Catalog, JobId,
    alarm::Alarm,
    connector::{CALLBACK, CallEnd, Failure, Repeat},
    job::{CallOut, Effect, Event, Facts, JobState, Kept, Machine, Outside, Place, Progress, Repeats, What},
    runbook::{LINK, Runbook},
};
use arvok_store::{
    Class, StoreError,
    calls::Caller,
    jobs::{self, Answered, Claim, ClaimedJob, Opening, Record, Renewed, Said, Standing, Then, Word},
    outside::{self, Come, callbacks::Try},
    read,
};
use chrono::{DateTime, Utc};
use futures_util::{FutureExt, StreamExt, future::BoxFuture, stream::FuturesUnordered};
use serde_json::{Value, json};
use std::{
    panic::AssertUnwindSafe,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::sync::mpsc::UnboundedReceiver;

/// A job to be walked.
pub(super) enum Walk {
    /// Somebody has begun it, and it was taken up.
    TakenUp(Box<ClaimedJob>),
    /// It has begun.
    Begun(Box<Begun>),
}

/// Walks a claimed job until it ends, waits, or is lost to another claim. `renewed` brings what people say to it, and
/// how much has come for it from outside.
pub(super) async fn walk(node: &Node, walk: Walk, renewed: UnboundedReceiver<Renewed>) {
    node.metrics.jobs_running.inc();
    let (id, claim) = match &walk {
        Walk::TakenUp(held) => (held.id, held.claim),
        Walk::Begun(begun) => begun.claim(),
    };
    let walking = async {
        let begun = match walk {
            Walk::Begun(begun) => *begun,
            Walk::TakenUp(held) => {
                let (runbook, alert) = needed(node, &held).await?;
                Begun::of(node, *held, runbook, alert, None).await?
            }
        };
        walk_on(node, begun, renewed).await
    };
    let why = match AssertUnwindSafe(walking).catch_unwind().await {
        Ok(Ok(())) => None,
        Ok(Err(StoreError::ClaimLost)) => {
            tracing::warn!(job = id.0, "another claim has taken the job over");
            None
        }
        Ok(Err(e)) => Some(e.to_string()),
        Err(_) => Some("the walk ended unexpectedly; the log says where".to_owned()),
    };
    if let Some(why) = why {
        tracing::error!(job = id.0, "the job is let go: {why}");
        if let Err(e) = jobs::let_go(&node.work_db, claim, &why).await {
            tracing::error!(job = id.0, "the job stands still until its lease ends: {e}");
        }
    }
    node.metrics.jobs_running.dec();
}

/// How long a record is tried again while the database cannot be worked with. The claim says
/// whether it may still be made.
const INSIST: Duration = Duration::from_secs(60);

/// Keeps a record; tries again while the database cannot be worked with. A job under way outlives a
/// database that is away for a while.
async fn keep(node: &Node, begun: &Begun) -> Result<(), StoreError> {
    let started = Instant::now();
    let mut pause = Duration::from_millis(50);
    let (id, record) = (begun.held.id, &begun.record);
    loop {
        match jobs::record(&node.work_db, begun.standing(), clock::now()).await {
            Err(e) if e.class() != Class::Lasting && started.elapsed() < INSIST => {
                tracing::warn!(job = id.0, "its record is tried again: {e}");
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(Duration::from_secs(1));
            }
            Err(e) => return Err(e),
            Ok(()) => {
                let decisions = !record.asked.is_empty() || !record.withdrawn.is_empty();
                node.announcer.tell(Change { jobs: vec![id.0], decisions, ..Change::default() });
                return Ok(());
            }
        }
    }
}

/// What a job needs besides its own row: its runbook, if that can still be read, and its alert.
async fn needed(node: &Node, held: &ClaimedJob) -> Result<(Option<Arc<Runbook>>, Option<Alert>), StoreError> {
    let runbook = node.runbook_by(&node.work_db, &held.runbook, held.runbook_version).await?;
    let alert = match held.alert {
        Some(alert) => read::whole_alert(&node.work_db, alert.0).await?,
        None => None,
    };
    Ok((runbook, alert))
}

/// How a job stands when it is taken up: its progress, and what its steps gave.
async fn resume(node: &Node, held: &ClaimedJob, runbook: &Runbook) -> Result<(Progress, Kept), StoreError> {
    let by_number = held.progress.get("phase").is_some();
    let progress = Progress::read(held.progress.clone(), runbook)?;
    if !held.begun {
        return Ok((progress, Kept::default()));
    }
    let named: Vec<&str> = runbook.steps.iter().filter(|_| by_number).map(|s| s.id.as_str()).collect();
    Ok((progress, jobs::kept(&node.work_db, held.id, &named).await?))
}

/// A person's word as the machine hears it.
fn heard(word: Word) -> Event {
    match word {
        Word::Pause { words } => Event::Pause { words },
        Word::Resume => Event::Resume,
        Word::Cancel { undo, words } => Event::Cancel { undo, words },
        Word::Resolve { place, word } => Event::Resolved { place, word },
    }
}

/// The alarm as it stands. While the database cannot be worked with it is asked again, as a record is: what a call has
/// answered is not forgotten for that. On another connection a beginning job would hold two.
async fn look_at(node: &Node, opening: Option<&Opening>, alarm: AlarmId) -> Result<Option<Alarm>, StoreError> {
    if let Some(opening) = opening {
        return jobs::alarm_of(opening.db(), alarm).await;
    }
    insist(|| jobs::alarm_of(&node.work_db, alarm)).await
}

/// The next renewal that brings something new: a person's word is brought again until it is recorded as heard.
async fn news(renewed: &mut UnboundedReceiver<Renewed>, last_heard: i32, posts: i32) -> Option<Renewed> {
    loop {
        let mut renewed = renewed.recv().await?;
        renewed.said = renewed.said.filter(|said| said.0 > last_heard);
        if renewed.said.is_some() || renewed.posts != posts {
            return Some(renewed);
        }
    }
}

/// Gives events to the machine, one after the other; what follows from all of them.
fn handle(machine: &mut Machine<'_>, now: DateTime<Utc>, events: Vec<Event>) -> Vec<Effect> {
    let mut effects = Vec::new();
    for event in events {
        let more = machine.handle(now, event);
        // What becomes of the job is told by the last of them, unless an earlier one ended it.
        if !more.is_empty() {
            effects.pop();
            effects.extend(more);
        }
    }
    effects
}

/// What has come for the steps that wait for something outside. While the database cannot be worked with it is asked
/// again, as a record is.
async fn come(node: &Node, held: &ClaimedJob, open: &[(Place, Outside)]) -> Result<Come, StoreError> {
    if open.is_empty() {
        return Ok(Come::default());
    }
    insist(|| outside::come(&node.work_db, held.id, open)).await
}

/// The jobs of steps that are waited for since this event: one may have ended before that was known here, and counted
/// what came while nobody asked for it.
fn new_jobs(machine: &Machine<'_>, asked: &[(Place, Outside)], now: DateTime<Utc>) -> Vec<(Place, Outside)> {
    let open = machine.outside(now).into_iter();
    open.filter(|o| matches!(o.1, Outside::Job(_)) && !asked.contains(o)).collect()
}

/// A job with all that it needs, what its steps gave, and what it has heard.
struct Walked {
    held: Arc<ClaimedJob>,
    runbook: Arc<Runbook>,
    facts: Facts,
    kept: Kept,
    /// The number of the last word of a person's.
    last_heard: i32,
    /// How much has come from outside.
    posts: i32,
}

/// A job after an event: where it stands, what is to be recorded of it, and then to be done.
pub(super) struct Begun {
    held: Arc<ClaimedJob>,
    progress: Progress,
    record: Record,
    outward: Outward,
    /// Whether the record is kept already.
    is_kept: bool,
    /// To go on; none if its runbook cannot be read.
    walked: Option<Walked>,
}

impl Begun {
    /// Takes a job up, or begins it.
    pub async fn of(
        node: &Node,
        held: ClaimedJob,
        runbook: Option<Arc<Runbook>>,
        alert: Option<Alert>,
        opening: Option<&Opening>,
    ) -> Result<Self, StoreError> {
        let held = Arc::new(held);
        let Some(runbook) = runbook else {
            let record = unreadable(&held);
            let (progress, outward) = (Progress::default(), Outward::default());
            return Ok(Self { held, progress, record, outward, is_kept: false, walked: None });
        };
        let facts = facts(node, &held, alert);
        let said = held.word.clone();
        let (last_heard, posts) = (said.as_ref().map_or(0, |(number, _)| *number), held.posts);
        let (progress, kept) = resume(node, &held, &runbook).await?;
        let taken = Event::Taken(repeats(&runbook, &node.published().catalog), Vec::new());
        let walked = Walked { held, runbook, facts, kept, last_heard, posts };
        walked.hear(node, progress, (taken.into(), said), opening).await
    }

    /// What is recorded.
    pub fn standing(&self) -> Standing<'_> {
        let (id, claim) = self.claim();
        Standing { id, claim, progress: &self.progress, record: &self.record }
    }

    /// The job and what holds it.
    pub fn claim(&self) -> (JobId, Claim) {
        (self.held.id, self.held.claim)
    }

    /// Whether its first record can be kept together with its claim: it does not wait.
    pub const fn begins_at_once(&self) -> bool {
        !matches!(self.record.then, Then::Wait { .. })
    }

    /// Whether nothing is left to do of it here: it has ended, or rests.
    pub const fn is_over(&self) -> bool {
        self.is_kept && !matches!(self.record.then, Then::GoOn)
    }

    /// Counts it if it has ended.
    pub fn count_end(&self, node: &Node) {
        if let Then::End { state, .. } = &self.record.then {
            let label = EndLabel { runbook: self.held.runbook.clone(), state: state.as_str().to_owned() };
            node.metrics.jobs_ended.get_or_create(&label).inc();
        }
    }

    /// After its claim was kept: the record was as well, unless it lets the job wait.
    pub fn opened(mut self) -> Self {
        self.is_kept = self.begins_at_once();
        self
    }
}

impl Walked {
    /// What follows from an event and from a person's word.
    async fn hear(
        mut self,
        node: &Node,
        progress: Progress,
        (event, said): (Came, Option<Said>),
        opening: Option<&Opening>,
    ) -> Result<Begun, StoreError> {
        let Came { event, answered } = event;
        let mut machine = Machine::new(&self.runbook, &self.facts, progress, std::mem::take(&mut self.kept));
        let asked = machine.outside(clock::now());
        let come = come(node, &self.held, &asked).await?;
        if let (true, Some(alarm)) = (self.runbook.reads_alarm, self.held.alarm) {
            machine.alarm = look_at(node, opening, alarm).await?;
        }
        let now = clock::now();
        let mut effects = handle(&mut machine, now, events(event, come.posts, said.as_ref()));
        let ended = self::come(node, &self.held, &new_jobs(&machine, &asked, now)).await?.posts;
        if !ended.is_empty() {
            effects.pop();
            effects.extend(machine.handle(now, Event::Came(ended)));
        }
        let (mut record, mut outward) = divide(effects, machine.alarm.as_ref().map(|a| a.changed_at));
        (record.summary, record.posts, record.passed_over) = (machine.summary(now), self.posts, come.read);
        record.answered.extend(answered);
        record.heard = said.as_ref().map(|(number, _)| *number);
        if come.again || !record.listens.is_empty() {
            look_again(&mut record, &mut outward, now);
        }
        complete(&mut record, &outward.calls, &node.published());
        let Machine { progress, kept, .. } = machine;
        self.kept = kept;
        Ok(Begun { held: Arc::clone(&self.held), progress, record, outward, is_kept: false, walked: Some(self) })
    }
}

async fn walk_on(node: &Node, mut begun: Begun, mut renewed: UnboundedReceiver<Renewed>) -> Result<(), StoreError> {
    let held = Arc::clone(&begun.held);
    let mut out: Out<'_> = FuturesUnordered::new();
    loop {
        if !begun.is_kept {
            keep(node, &begun).await?;
        }
        begun.count_end(node);
        let Begun { progress, record, outward, walked, .. } = begun;
        let (Then::GoOn, Some(mut walked)) = (record.then, walked) else { return Ok(()) };
        let wake = outward.wake.map(|at| (at - clock::now()).to_std().unwrap_or_default());
        send(node, &held, outward, &out);
        let (event, said) = tokio::select! {
            Some(answered) = out.next() => (answered?, None),
            () = tokio::time::sleep(wake.unwrap_or_default()), if wake.is_some() => (Event::Tick.into(), None),
            Some(new) = news(&mut renewed, walked.last_heard, walked.posts) => {
                walked.posts = new.posts;
                walked.last_heard = new.said.as_ref().map_or(walked.last_heard, |said| said.0);
                (Event::Tick.into(), new.said)
            }
            else => return Err(StoreError::BrokenOff("the walk of a job that waits for nothing")),
        };
        begun = walked.hear(node, progress, (event, said), None).await?;
    }
}

/// The end of a job whose runbook is gone.
fn unreadable(held: &ClaimedJob) -> Record {
    let why = format!("version {} of runbook `{}` cannot be read any more", held.runbook_version, held.runbook);
    Record { then: end(JobState::Failed, why), ..Record::default() }
}

/// What does not change about a job.
fn facts(node: &Node, held: &ClaimedJob, alert: Option<Alert>) -> Facts {
    Facts {
        id: held.id,
        key: key(node, held),
        inputs: held.inputs.clone(),
        target: held.target.clone(),
        alert,
        has_alarm: held.alarm.is_some(),
        created: held.created_at,
    }
}

/// All that happened to a job: what has come from outside, the event, a person's word.
fn events(event: Event, came: Vec<(Place, What)>, said: Option<&Said>) -> Vec<Event> {
    let word = said.map(|(_, word)| heard(word.clone()));
    let mut events = match event {
        Event::Taken(repeats, _) => vec![Event::Taken(repeats, came)],
        event if came.is_empty() => vec![event],
        event => vec![Event::Came(came), event],
    };
    events.extend(word);
    events
}

/// An event of a job, and the answer with which it came.
struct Came {
    event: Event,
    answered: Option<Answered>,
}

impl From<Event> for Came {
    fn from(event: Event) -> Self {
        Self { event, answered: None }
    }
}

/// What is out: calls, and jobs of steps that are made or told to stop.
type Out<'a> = FuturesUnordered<BoxFuture<'a, Result<Came, StoreError>>>;

/// Sends out what is to be done outside.
fn send<'a>(node: &'a Node, held: &'a ClaimedJob, outward: Outward, out: &Out<'a>) {
    let Outward { calls, launches, recalls, .. } = outward;
    calls.into_iter().for_each(|one| out.push(Box::pin(call(node, held, one).map(Ok))));
    launches.into_iter().for_each(|one| out.push(Box::pin(launch(node, held, one).map(|made| made.map(Came::from)))));
    recalls.into_iter().for_each(|one| out.push(Box::pin(recall(node, one).map(|told| told.map(Came::from)))));
}

/// What the keys of a job's calls begin with. Numbers of jobs begin anew in another installation,
/// and go back when a backup is restored; with the moment of the dispatch they are never the same.
fn key(node: &Node, held: &ClaimedJob) -> String {
    format!("{}-{}-{:x}", node.installation, held.id, held.created_at.timestamp_micros())
}

/// Whether the operations of a runbook may be called twice.
fn repeats(runbook: &Runbook, catalog: &Catalog) -> Repeats {
    let of = |(via, operation): (&str, &str)| {
        let repeat = catalog.operation(via, operation).map_or(Repeat::Never, |(_, op)| op.repeat);
        ((via.to_owned(), operation.to_owned()), repeat)
    };
    Repeats(runbook.calls().into_iter().map(of).collect())
}

/// Calls; what happened then. A link to a decision, or the address of a call back, is put in here and taken out of the
/// answer, so that no record has it.
async fn call(node: &Node, held: &ClaimedJob, mut out: CallOut) -> Came {
    let not_sent = |out: &CallOut, why: String| {
        let failure = Failure::new(CallEnd::NotSent, why);
        let what = What::Broke { failure, repeat: Repeat::Never };
        Came::from(Event::Step { place: out.place.clone(), attempt: out.attempt, what })
    };
    let given = Value::Object(std::mem::take(&mut out.give));
    let mut hidden = Vec::new();
    let given = match link_for(node, held.id, &out.place, &given).await {
        None => given,
        Some(Ok(link)) => {
            let given = replace(given, LINK, &link);
            hidden.push((link, LINK));
            given
        }
        Some(Err(why)) => return not_sent(&out, why),
    };
    if let Value::Object(given) = given {
        out.give = given;
    }
    let callback = match callback(node, held, &out) {
        None => None,
        Some(Ok(address)) => Some(address),
        Some(Err(why)) => return not_sent(&out, why),
    };
    hidden.extend(callback.iter().map(|address| (address.clone(), CALLBACK)));
    let outgoing = Outgoing {
        via: &out.via,
        operation: &out.operation,
        give: &out.give,
        key: &out.key,
        timeout: out.timeout,
        callback: callback.as_deref(),
        caller: Caller::Step { job: held.id, place: out.place.clone(), attempt: out.attempt },
        hidden: &hidden,
    };
    let (ended, repeat) =
        if out.probes { calls::probe(node, outgoing).await } else { calls::call(node, outgoing).await };
    let answered = ended.answer.map(|answer| Answered {
        place: out.place.clone(),
        attempt: i32::try_from(out.attempt).unwrap_or(i32::MAX),
        answer: json!(answer_kept(answer)),
    });
    let what = match ended.called {
        Ok(Called::Output(output)) => What::Returned(output),
        Ok(Called::Later(within)) => What::Later { within, repeat },
        Err(failure) => What::Broke { failure, repeat },
    };
    Came { event: Event::Step { place: out.place, attempt: out.attempt, what }, answered }
}

/// The address at which the other side calls back, if the operation is one that does.
fn callback(node: &Node, held: &ClaimedJob, out: &CallOut) -> Option<Result<String, String>> {
    let published = node.published();
    let (_, operation) = published.catalog.operation(&out.via, &out.operation).ok()?;
    operation.callback().filter(|_| !out.probes)?;
    let of = Try { job: held.id, created: held.created_at, place: out.place.clone(), attempt: out.attempt };
    Some(CallBack { of, via: out.via.clone(), operation: out.operation.clone() }.address(node))
}
