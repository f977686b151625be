//! The machine itself.

use super::{JobEffect, JobState, Phase, Progress};
use crate::{
    Alert, JobId, Period,
    connector::{CallEnd, Failure, Repeat},
    period::rough,
    runbook::{Action, JobScope, Runbook, Step},
};
use chrono::{DateTime, Utc};
use serde_json::{Map, Value, json};

/// What does not change about a job.
#[derive(Clone, Debug)]
pub struct Facts {
    /// Its number.
    pub id: JobId,
    /// What the keys of its calls begin with: no other job has the same, neither of another
    /// installation nor after a restore.
    pub key: String,
    /// Its inputs, a map.
    pub inputs: Value,
    /// Its target.
    pub target: String,
    /// What set it off.
    pub alert: Option<Alert>,
    /// Whether that alert belongs to an alarm.
    pub has_alarm: bool,
}

/// What happens to a job.
#[derive(Clone, Debug, PartialEq)]
pub enum Event {
    /// A node took it up, for the first time, after a wait, or after another node's death.
    Taken {
        /// For a step that was under way at a death: whether its operation may be repeated.
        repeat: Repeat,
    },
    /// The call gave its output.
    Returned(Value),
    /// The call failed.
    Broke {
        /// Why, and what is known of the other side.
        failure: Failure,
        /// Whether doing it twice is harmless.
        repeat: Repeat,
    },
    /// The alarm was looked at.
    AlarmSeen {
        /// Whether it is raised.
        raised: bool,
    },
    /// A person says what became of an unsure step.
    Resolved(Resolution),
}

/// What a person says of an unsure step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Resolution {
    /// It was done; go on behind it.
    Done,
    /// It was not done; do it again.
    Again,
    /// The job ends here as failed.
    Failed,
}

/// What is to be done. Records first; of the outward ones there is at most one, the last.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// Record that a try of a step begins.
    StepStarted {
        /// Its place, from zero.
        index: usize,
        /// Which try, from one.
        attempt: u32,
        /// What the operation is given.
        give: Value,
    },
    /// Record how a try of a step ended.
    StepEnded {
        /// Its place, from zero.
        index: usize,
        /// Which try, from one.
        attempt: u32,
        /// How it ended.
        result: StepResult,
    },
    /// Call an operation; answer with `Returned` or `Broke`.
    Call {
        /// The connection.
        via: String,
        /// The operation.
        operation: String,
        /// What it is given.
        give: Map<String, Value>,
        /// The same for every try of the same step.
        key: String,
        /// How long the try may take.
        timeout: Option<Period>,
    },
    /// Look at the alarm; answer with `AlarmSeen`.
    LookAtAlarm,
    /// Let go until then, or until the alarm changes.
    Wait {
        /// When it goes on.
        until: DateTime<Utc>,
    },
    /// The state is final, or unsure.
    End {
        /// The state.
        state: JobState,
        /// Whether it helped.
        effect: Option<JobEffect>,
        /// Why it did not succeed, or is unsure.
        failure: Option<String>,
        /// What it gives.
        outputs: Value,
    },
}

/// How a try of a step ended.
#[derive(Clone, Debug, PartialEq)]
pub enum StepResult {
    /// With an output.
    Done(Value),
    /// With an error.
    Failed(String),
    /// Not known.
    Unsure(String),
}

/// A job at work.
#[derive(Debug)]
pub struct Machine<'a> {
    runbook: &'a Runbook,
    facts: &'a Facts,
    /// To be kept after every event.
    pub progress: Progress,
}

impl<'a> Machine<'a> {
    /// Goes on from kept progress.
    pub fn new(runbook: &'a Runbook, facts: &'a Facts, progress: Progress) -> Self {
        Self { runbook, facts, progress }
    }

    /// Takes an event and says what is to be done.
    pub fn handle(&mut self, now: DateTime<Utc>, event: Event) -> Vec<Effect> {
        let mut effects = Vec::new();
        match event {
            Event::Taken { repeat } => self.taken(now, repeat, &mut effects),
            Event::Returned(output) => self.returned(now, output, &mut effects),
            Event::Broke { failure, repeat } => self.broke(now, failure, repeat, &mut effects),
            Event::AlarmSeen { raised } => self.alarm_seen(now, raised, &mut effects),
            Event::Resolved(word) => self.resolved(now, word, &mut effects),
        }
        effects
    }

    fn taken(&mut self, now: DateTime<Utc>, repeat: Repeat, effects: &mut Vec<Effect>) {
        match self.progress.phase {
            Phase::Ready => self.advance(now, effects),
            Phase::Again { at } if at > now => effects.push(Effect::Wait { until: at }),
            Phase::Again { .. } => self.start_step(now, effects),
            Phase::Confirming { .. } => effects.push(Effect::LookAtAlarm),
            Phase::UnderWay if repeat == Repeat::Never => self.unsure("the node died", effects),
            Phase::UnderWay => {
                self.ended(StepResult::Unsure("the node died; tried again, which is harmless".into()), effects);
                self.start_step(now, effects);
            }
            // A node took it up for a person's word and died before that was recorded.
            Phase::Unsure => {
                let step = self.step().map_or("", |s| s.id.as_str());
                let failure = format!("nobody has said yet whether step `{step}` was done");
                self.still_unsure(failure, effects);
            }
            Phase::Ended => self.fail("it was taken up after its end".into(), effects),
        }
    }

    fn unsure(&mut self, what: &str, effects: &mut Vec<Effect>) {
        let step = self.step().map_or_else(String::new, |s| s.id.clone());
        let message =
            format!("{what} during step `{step}`, which must not be done twice; nobody knows whether it was done");
        self.ended(StepResult::Unsure(message.clone()), effects);
        self.progress.phase = Phase::Unsure;
        self.still_unsure(message, effects);
    }

    fn still_unsure(&self, failure: String, effects: &mut Vec<Effect>) {
        let (state, effect, failure) = (JobState::Unsure, None, Some(failure));
        effects.push(Effect::End { state, effect, failure, outputs: Value::Null });
    }

    fn resolved(&mut self, now: DateTime<Utc>, word: Resolution, effects: &mut Vec<Effect>) {
        if self.progress.phase != Phase::Unsure {
            return;
        }
        match word {
            Resolution::Again => self.start_step(now, effects),
            Resolution::Done => {
                self.progress.phase = Phase::UnderWay;
                self.returned(now, Value::Null, effects);
            }
            Resolution::Failed => self.fail("a person said that the unsure step failed".into(), effects),
        }
    }

    fn step(&self) -> Option<&'a Step> {
        self.runbook.steps.get(self.progress.step)
    }

    /// Goes from one step to the next until something outward is to be done.
    fn advance(&mut self, now: DateTime<Utc>, effects: &mut Vec<Effect>) {
        self.progress.started.get_or_insert(now);
        while let (Some(step), Phase::Ready) = (self.step(), self.progress.phase) {
            match &step.action {
                Action::Call { .. } => return self.start_step(now, effects),
                Action::Require { .. } => self.require(now, step, effects),
            }
        }
        if self.progress.phase == Phase::Ready {
            self.steps_done(now, effects);
        }
    }

    fn overdue(&mut self, now: DateTime<Utc>, effects: &mut Vec<Effect>) -> bool {
        let started = *self.progress.started.get_or_insert(now);
        let over = now - started > self.runbook.timeout.delta();
        if over {
            self.fail(format!("the runbook's time of {} is over", self.runbook.timeout), effects);
        }
        over
    }

    fn require(&mut self, now: DateTime<Utc>, step: &Step, effects: &mut Vec<Effect>) {
        let Action::Require { condition, otherwise } = &step.action else { return };
        if self.overdue(now, effects) {
            return;
        }
        self.progress.attempt = 1;
        let held = self.with_scope(|scope| match condition.holds(scope) {
            Ok(true) => Ok(()),
            Ok(false) => Err(match otherwise {
                Some(text) => text.fill_text(scope).unwrap_or_else(|e| e.to_string()),
                None => format!("{condition} does not hold"),
            }),
            Err(e) => Err(format!("{condition}: {e}")),
        });
        effects.push(Effect::StepStarted {
            index: self.progress.step,
            attempt: 1,
            give: json!({ "require": condition.text() }),
        });
        match held {
            Ok(()) => self.step_done(Value::Bool(true), effects),
            Err(message) => {
                self.ended(StepResult::Failed(message.clone()), effects);
                self.fail(message, effects);
            }
        }
    }

    fn start_step(&mut self, now: DateTime<Utc>, effects: &mut Vec<Effect>) {
        let Some(Step { id, action: Action::Call { operation, via, give, timeout, .. }, .. }) = self.step() else {
            self.progress.phase = Phase::Ready;
            return self.advance(now, effects);
        };
        if self.overdue(now, effects) {
            return;
        }
        self.progress.attempt += 1;
        let given = self.with_scope(|scope| give.fill(scope));
        let shown = given.as_ref().map_or(Value::Null, Clone::clone);
        effects.push(Effect::StepStarted { index: self.progress.step, attempt: self.progress.attempt, give: shown });
        match given {
            Ok(Value::Object(give)) => {
                self.progress.phase = Phase::UnderWay;
                let key = format!("{}-{id}", self.facts.key);
                effects.push(Effect::Call {
                    via: via.clone(),
                    operation: operation.clone(),
                    give,
                    key,
                    timeout: *timeout,
                });
            }
            Ok(_) => self.not_sent(now, "`give` is not a map".into(), effects),
            Err(e) => self.not_sent(now, format!("give: {e}"), effects),
        }
    }

    fn not_sent(&mut self, now: DateTime<Utc>, message: String, effects: &mut Vec<Effect>) {
        self.broke(now, Failure::lasting(CallEnd::NotSent, message), Repeat::Never, effects);
    }

    fn returned(&mut self, now: DateTime<Utc>, output: Value, effects: &mut Vec<Effect>) {
        self.step_done(output, effects);
        self.advance(now, effects);
    }

    fn step_done(&mut self, output: Value, effects: &mut Vec<Effect>) {
        self.ended(StepResult::Done(output.clone()), effects);
        if let Some(step) = self.step() {
            self.progress.outputs.insert(step.id.clone(), output);
        }
        self.progress.step += 1;
        self.progress.attempt = 0;
        self.progress.phase = Phase::Ready;
    }

    /// What may have been done and must not be done twice is for a person; what was surely not
    /// done, or may be done twice, is tried again as often as the step says.
    fn broke(&mut self, now: DateTime<Utc>, failure: Failure, repeat: Repeat, effects: &mut Vec<Effect>) {
        let Some(step) = self.step() else { return };
        let unknown = failure.end == CallEnd::Unknown;
        if unknown && repeat == Repeat::Never {
            return self.unsure(&failure.message, effects);
        }
        let not_known = if unknown && repeat == Repeat::Keyed { "; whether it was done is not known" } else { "" };
        let message = format!("{}{not_known}", failure.message);
        self.ended(StepResult::Failed(message.clone()), effects);
        let wait = match &step.action {
            Action::Call { retry: Some(retry), .. } if !failure.lasting => {
                let wait = retry.wait_after(self.progress.attempt);
                wait.map(|wait| wait.max(failure.retry_after.unwrap_or(wait)))
            }
            _ => None,
        };
        match wait {
            Some(wait) => {
                let at = now + wait.delta();
                self.progress.phase = Phase::Again { at };
                effects.push(Effect::Wait { until: at });
            }
            None => {
                let tries = self.progress.attempt;
                let tries = if tries > 1 { format!(" after {tries} tries") } else { String::new() };
                self.fail(format!("step `{}` failed{tries}: {message}", step.id), effects);
            }
        }
    }

    fn ended(&self, result: StepResult, effects: &mut Vec<Effect>) {
        effects.push(Effect::StepEnded { index: self.progress.step, attempt: self.progress.attempt, result });
    }

    fn fail(&mut self, failure: String, effects: &mut Vec<Effect>) {
        self.progress.phase = Phase::Ended;
        effects.push(Effect::End {
            state: JobState::Failed,
            effect: Some(JobEffect::NotChecked),
            failure: Some(failure),
            outputs: Value::Null,
        });
    }

    fn steps_done(&mut self, now: DateTime<Utc>, effects: &mut Vec<Effect>) {
        match self.runbook.confirm {
            Some(confirm) if self.facts.has_alarm => {
                self.progress.phase = Phase::Confirming { until: now + confirm.within.delta() };
                effects.push(Effect::LookAtAlarm);
            }
            _ => self.succeed(JobEffect::NotChecked, None, effects),
        }
    }

    fn alarm_seen(&mut self, now: DateTime<Utc>, raised: bool, effects: &mut Vec<Effect>) {
        let Phase::Confirming { until } = self.progress.phase else { return };
        if !raised {
            self.succeed(JobEffect::Confirmed, None, effects);
        } else if now >= until {
            let within = self.runbook.confirm.map_or_else(String::new, |c| rough(c.within.delta()));
            self.succeed(
                JobEffect::Unconfirmed,
                Some(format!("the alarm is still raised {within} after the last step")),
                effects,
            );
        } else {
            effects.push(Effect::Wait { until });
        }
    }

    fn succeed(&mut self, effect: JobEffect, failure: Option<String>, effects: &mut Vec<Effect>) {
        self.progress.phase = Phase::Ended;
        let outputs = self.with_scope(|scope| self.runbook.outputs.fill(scope));
        let (outputs, failure) = match outputs {
            Ok(outputs) => (outputs, failure),
            Err(e) => (Value::Null, Some(format!("the outputs cannot be made: {e}"))),
        };
        effects.push(Effect::End { state: JobState::Succeeded, effect: Some(effect), failure, outputs });
    }

    fn with_scope<T>(&self, read: impl FnOnce(&JobScope<'_>) -> T) -> T {
        let steps = Value::Object(self.progress.outputs.clone());
        let job = json!({ "id": self.facts.id, "runbook": self.runbook.name, "target": self.facts.target });
        read(&JobScope { inputs: &self.facts.inputs, steps: &steps, job: &job, alert: self.facts.alert.as_ref() })
    }
}
