//! One event of a job: what is needed to decide about it is read, then the machine decides, and
//! what follows is put together.
//!
//! To decide is to evaluate what an author wrote. So it is done off the workers that serve
//! everybody, and never while a transaction or a connection is held for it.

use super::record::{Outward, complete, divide, look_again};
use crate::{
    clock,
    metrics::{EndLabel, RunbookLabel},
    node::{Node, Published},
    retry::retry,
};
use arvok_core::{
    AlarmId, Alert, JobId, Trial,
    guard::LaunchedBy,
    job::{
        Effect, Event, Facts, JobState, Machine, Outside, Place, Progress, Repeats, StepEvent,
        StepOutputs, Transition,
    },
    rule::Rule,
    runbook::{Announce, Runbook},
};
use arvok_store::{
    StoreError,
    jobs::{
        self, AlarmSeen, Answered, Claim, ClaimedJob, ClaimedRecord, JobAlarm, Looked,
        NumberedCommand, Record,
    },
    memory::{self, Recalled},
    outside::{self, Inbox},
};
use chrono::{DateTime, Utc};
use std::sync::Arc;

/// A job with all that it needs, what its steps gave, and what it has heard.
pub(super) struct Executed {
    held: Arc<ClaimedJob>,
    runbook: Arc<Runbook>,
    facts: Facts,
    kept: StepOutputs,
    /// The number of the last word of a person's.
    pub last_heard: i32,
    /// How much has come from outside.
    pub posts: i32,
}

/// An event of a job, and the answer with which it came.
pub(super) struct Came {
    pub event: Event,
    pub answered: Option<Answered>,
}

impl From<Event> for Came {
    fn from(event: Event) -> Self {
        Self { event, answered: None }
    }
}

/// The first event of a job, or its end if its runbook cannot be read.
pub(super) enum First {
    Pending(Box<PendingEvent>),
    Over(Box<Begun>),
}

impl First {
    /// A job that ends before it begins.
    fn over(held: Arc<ClaimedJob>, record: Record) -> Self {
        let (progress, outward) = (Progress::default(), Outward::default());
        let (is_kept, executed) = (false, None);
        Self::Over(Box::new(Begun { held, progress, record, outward, is_kept, executed }))
    }
}

/// An event with all that is needed to decide about it.
pub(super) struct PendingEvent {
    executed: Executed,
    progress: Progress,
    published: Arc<Published>,
    alarm: Option<JobAlarm>,
    event: Came,
    said: Option<NumberedCommand>,
    /// What the steps that wait for something outside were asked for, and what has come.
    asked: Vec<(Place, Outside)>,
    come: Inbox,
}

impl PendingEvent {
    /// That of taking a job up, or of beginning it.
    pub async fn prepare(
        node: &Node,
        held: ClaimedJob,
        runbook: Option<Arc<Runbook>>,
        alert: Option<Alert>,
    ) -> Result<First, StoreError> {
        let held = Arc::new(held);
        let Some(runbook) = runbook else {
            let record = failing(unreadable(&held));
            return Ok(First::over(held, record));
        };
        let facts = match facts(node, &held, &runbook, alert).await? {
            Ok(facts) => facts,
            Err(why) => {
                let record = failing(why);
                return Ok(First::over(held, record));
            }
        };
        let said = held.word.clone();
        let (last_heard, posts) = (said.as_ref().map_or(0, |(number, _)| *number), held.posts);
        let (progress, kept) = resume(node, &held).await?;
        let taken = Event::Taken(Repeats::of(&runbook, &*node.published().catalog), Vec::new());
        let executed = Executed { held, runbook, facts, kept, last_heard, posts };
        let pending = executed.pending(node, progress, (taken.into(), said)).await?;
        Ok(First::Pending(Box::new(pending)))
    }

    /// Decides, off the workers.
    pub async fn decide(self, node: &Node) -> Result<Begun, StoreError> {
        let decide = move || {
            let now = clock::now();
            let decided = self.handled(now);
            if decided.new.is_empty() {
                Ok(decided.put_together(now))
            } else {
                Err(Box::new(decided))
            }
        };
        let decided = match node.capacity.decide(decide).await? {
            Ok(begun) => return Ok(begun),
            Err(decided) => decided,
        };
        let ended = come(node, decided.executed.held.id, &decided.new).await?.posts;
        let decide = move || {
            let now = clock::now();
            let decided = if ended.is_empty() { *decided } else { decided.more(now, ended) };
            decided.put_together(now)
        };
        node.capacity.decide(decide).await
    }

    /// Decides here and now, for whoever is off the workers already. No job of a step can be known
    /// yet.
    pub fn decide_first(self, now: DateTime<Utc>) -> Begun {
        self.handled(now).put_together(now)
    }

    fn handled(self, now: DateTime<Utc>) -> Decided {
        let Self { mut executed, progress, published, alarm, event, said, asked, mut come } = self;
        let Came { event, answered } = event;
        let mut machine = Machine::new(
            &executed.runbook,
            &executed.facts,
            progress,
            std::mem::take(&mut executed.kept),
        );
        machine.unread = come.unread;
        machine.others = Some(&*published.catalog);
        show_alarm(&mut machine, alarm.as_ref());
        let posts = std::mem::take(&mut come.posts);
        let effects = handle(&mut machine, now, events(event, posts, said.as_ref()));
        let new = new_jobs(&machine, &asked, now);
        let Machine { progress, kept, .. } = machine;
        executed.kept = kept;
        let heard = said.map(|(number, _)| number);
        Decided {
            executed,
            progress,
            published,
            alarm,
            effects,
            new,
            answered,
            heard,
            read: come.read,
            again: come.again,
            looked: come.looked,
        }
    }
}

/// What was decided about an event, before it is put together.
struct Decided {
    executed: Executed,
    progress: Progress,
    published: Arc<Published>,
    alarm: Option<JobAlarm>,
    effects: Vec<Effect>,
    /// The jobs of steps that are waited for since.
    new: Vec<(Place, Outside)>,
    answered: Option<Answered>,
    /// The number of the person's word that was heard.
    heard: Option<i32>,
    /// What was read of alerts, and whether more may be seen soon.
    read: Vec<i64>,
    again: bool,
    /// How far was looked for waits.
    looked: Vec<Looked>,
}

impl Decided {
    /// What follows besides, of jobs of steps that have ended by now.
    fn more(mut self, now: DateTime<Utc>, ended: Vec<(Place, StepEvent)>) -> Self {
        let (progress, kept) =
            (std::mem::take(&mut self.progress), std::mem::take(&mut self.executed.kept));
        let mut machine =
            Machine::new(&self.executed.runbook, &self.executed.facts, progress, kept);
        machine.others = Some(&*self.published.catalog);
        show_alarm(&mut machine, self.alarm.as_ref());
        self.effects.pop();
        self.effects.extend(machine.handle(now, Event::Came(ended)));
        let Machine { progress, kept, .. } = machine;
        (self.progress, self.executed.kept) = (progress, kept);
        self
    }

    /// The record of it, and what is outward.
    fn put_together(self, now: DateTime<Utc>) -> Begun {
        let Self {
            mut executed,
            progress,
            published,
            alarm,
            effects,
            answered,
            heard,
            read,
            again,
            looked,
            ..
        } = self;
        let seen = alarm.map(|seen| AlarmSeen {
            changed_at: Some(seen.alarm.changed_at),
            others_changed_at: seen.others_changed_at,
        });
        let (mut record, outward) = divide(effects, seen.unwrap_or_default());
        let machine = Machine::new(
            &executed.runbook,
            &executed.facts,
            progress,
            std::mem::take(&mut executed.kept),
        );
        (record.summary, record.posts, record.passed_over) =
            (machine.summary(now), executed.posts, read);
        record.answered.extend(answered);
        record.heard = heard;
        record.looked = looked;
        if again || !record.listens.is_empty() {
            look_again(&mut record, now);
        }
        complete(&mut record, &outward.calls, &published);
        let Machine { progress, kept, .. } = machine;
        executed.kept = kept;
        Begun {
            held: Arc::clone(&executed.held),
            progress,
            record,
            outward,
            is_kept: false,
            executed: Some(executed),
        }
    }
}

impl Executed {
    /// An event and of a person's word: reads what is needed to decide about them.
    pub async fn pending(
        mut self,
        node: &Node,
        progress: Progress,
        (event, said): (Came, Option<NumberedCommand>),
    ) -> Result<PendingEvent, StoreError> {
        let machine =
            Machine::new(&self.runbook, &self.facts, progress, std::mem::take(&mut self.kept));
        let asked = machine.outside(clock::now());
        let Machine { progress, kept, .. } = machine;
        self.kept = kept;
        let come = come(node, self.held.id, &asked).await?;
        let reads_alarm = self.runbook.reads_alarm || self.facts.announce.is_some();
        let alarm = match self.held.alarm.filter(|_| reads_alarm) {
            Some(alarm) => look_at(node, self.held.id, alarm).await?,
            None => None,
        };
        Ok(PendingEvent {
            executed: self,
            progress,
            published: node.published(),
            alarm,
            event,
            said,
            asked,
            come,
        })
    }
}

/// A job after an event: where it stands, what is to be recorded of it, and then to be done.
pub(super) struct Begun {
    pub held: Arc<ClaimedJob>,
    pub progress: Progress,
    pub record: Record,
    pub outward: Outward,
    /// Whether the record is kept already.
    pub is_kept: bool,
    /// To go on; none if its runbook cannot be read.
    pub executed: Option<Executed>,
}

impl Begun {
    /// Takes a job up, or begins it.
    pub async fn take_up(
        node: &Node,
        held: ClaimedJob,
        runbook: Option<Arc<Runbook>>,
        alert: Option<Alert>,
    ) -> Result<Self, StoreError> {
        match PendingEvent::prepare(node, held, runbook, alert).await? {
            First::Pending(pending) => pending.decide(node).await,
            First::Over(begun) => Ok(*begun),
        }
    }

    /// What is recorded.
    pub fn standing(&self) -> ClaimedRecord<'_> {
        let (id, claim) = self.claim();
        ClaimedRecord { id, claim, progress: &self.progress, record: &self.record }
    }

    /// The job and what holds it.
    pub fn claim(&self) -> (JobId, Claim) {
        (self.held.id, self.held.claim)
    }

    /// As the first record of a job that nobody had begun.
    pub fn first(&self) -> jobs::First<'_> {
        let record = self.begins_at_once().then_some((&self.progress, &self.record));
        jobs::First { job: &self.held, record }
    }

    /// Whether its first record can be kept together with its claim: it does not wait.
    const fn begins_at_once(&self) -> bool {
        !matches!(self.record.then, Transition::Wait { .. })
    }

    /// Whether nothing is left to do of it here: it has ended, or rests.
    pub const fn is_over(&self) -> bool {
        self.is_kept && !matches!(self.record.then, Transition::GoOn { .. })
    }

    /// Counts it if it has ended.
    pub fn count_end(&self, node: &Node) {
        let state = self.record.then.state();
        let is_counted = self.held.trial.is_none();
        if is_counted && (state.is_final() || state == JobState::Unsure) {
            let label =
                EndLabel { runbook: self.held.runbook.clone(), state: state.as_str().to_owned() };
            node.metrics.work.jobs_ended.get_or_create(&label).inc();
            let took = clock::now() - self.held.created_at;
            let label = RunbookLabel { runbook: self.held.runbook.clone() };
            node.metrics
                .work
                .job_seconds
                .get_or_create(&label)
                .observe(took.as_seconds_f64().max(0.0));
        }
    }

    /// After its claim was kept: the record was as well, unless it lets the job wait.
    pub fn opened(mut self) -> Self {
        self.is_kept = self.begins_at_once();
        self
    }
}

/// How a job stands when it is taken up: its progress, and what its steps gave.
async fn resume(node: &Node, held: &ClaimedJob) -> Result<(Progress, StepOutputs), StoreError> {
    let progress = Progress::read(held.progress.clone())?;
    if !held.begun {
        return Ok((progress, StepOutputs::default()));
    }
    Ok((progress, jobs::stored_outputs(&node.pools.work, held.id).await?))
}

/// The alarms of a job as they stand. While the database cannot be worked with they are asked for
/// again, as a record is: what a call has answered is not forgotten for that.
async fn look_at(node: &Node, job: JobId, first: AlarmId) -> Result<Option<JobAlarm>, StoreError> {
    retry("reading alarms", || jobs::alarms_of(&node.pools.work, job, first)).await
}

fn show_alarm(machine: &mut Machine<'_>, seen: Option<&JobAlarm>) {
    machine.alarm = seen.map(|seen| seen.alarm.clone());
    machine.others_raised = seen.map_or(0, |seen| seen.others_raised);
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

/// What has come for the steps that wait for something outside. While the database cannot be worked
/// with it is asked again, as a record is.
async fn come(node: &Node, job: JobId, open: &[(Place, Outside)]) -> Result<Inbox, StoreError> {
    if open.is_empty() {
        return Ok(Inbox::default());
    }
    retry("reading what came for a job", || outside::come(&node.pools.work, job, open)).await
}

/// The jobs of steps that are waited for since this event: one may have ended before that was known
/// here, and counted what came while nobody asked for it.
fn new_jobs(
    machine: &Machine<'_>,
    asked: &[(Place, Outside)],
    now: DateTime<Utc>,
) -> Vec<(Place, Outside)> {
    let open = machine.outside(now).into_iter();
    open.filter(|o| matches!(o.1, Outside::Job(_)) && !asked.contains(o)).collect()
}

/// Why a job ends whose runbook is gone.
fn unreadable(held: &ClaimedJob) -> String {
    format!(
        "version {} of runbook `{}` cannot be read any more",
        held.runbook_version, held.runbook
    )
}

fn failing(why: String) -> Record {
    Record { then: Transition::fail(JobState::Failed, why), ..Record::default() }
}

/// What does not change about a job; why it cannot go on, if what it finds remembered does not fit.
async fn facts(
    node: &Node,
    held: &ClaimedJob,
    runbook: &Runbook,
    alert: Option<Alert>,
) -> Result<Result<Facts, String>, StoreError> {
    let Recalled { remembered, is_full } = match runbook.memory.is_empty() {
        true => Recalled::default(),
        false => memory::recall(&node.pools.work, &held.runbook, &held.target).await?,
    };
    let memory = match runbook.memory.recall(remembered) {
        Ok(memory) => memory,
        Err(why) => {
            let (name, target) = (&held.runbook, &held.target);
            return Ok(Err(format!(
                "what runs of `{name}` remember of {target} does not fit any more: {why}; \
                `arvok runbook forget {name} {target}` begins anew"
            )));
        }
    };
    Ok(Ok(Facts {
        id: held.id,
        key: key(node, held),
        inputs: held.inputs.clone(),
        target: held.target.clone(),
        alert,
        has_alarm: held.alarm.is_some(),
        created: held.created_at,
        memory,
        memory_full: is_full,
        announce: rule_announces(node, held).await?,
        dry: held.trial == Some(Trial::Dry),
    }))
}

/// What its rule says before it changes anything: of a job that the rule dispatched by itself.
async fn rule_announces(node: &Node, held: &ClaimedJob) -> Result<Option<Announce>, StoreError> {
    let (Some(rule), Some(version)) = (&held.rule, held.rule_version) else { return Ok(None) };
    if held.launched_by != LaunchedBy::Rules || held.depth > 0 {
        return Ok(None);
    }
    let rule = node.definition::<Rule>(rule, version).await?;
    Ok(rule.and_then(|rule| rule.announce.clone()))
}

/// All that happened to a job: what has come from outside, the event, a person's word.
fn events(
    event: Event,
    came: Vec<(Place, StepEvent)>,
    said: Option<&NumberedCommand>,
) -> Vec<Event> {
    let word = said.map(|(_, word)| Event::Commanded(word.clone()));
    let mut events = match event {
        Event::Taken(repeats, _) => vec![Event::Taken(repeats, came)],
        event if came.is_empty() => vec![event],
        event => vec![Event::Came(came), event],
    };
    events.extend(word);
    events
}

/// What the keys of a job's calls begin with. Numbers of jobs begin anew in another installation,
/// and go back when a backup is restored; with the moment of the dispatch they are never the same.
fn key(node: &Node, held: &ClaimedJob) -> String {
    format!("{}-{}-{:x}", node.installation, held.id, held.created_at.timestamp_micros())
}
