//! A yard is out of balance. Who may publish may not let its evening out run by itself: the plan
//! runs by hand until an admin gives the right to automate it, within a guard; then it has its
//! times, and a run that finds the yard even does nothing.

use super::{Account, PATIENCE, detail, until_job};
use crate::{client::Client, demo::world::World, error::CliError};
use arvok_api::{
    AutomationRight, FileText, JobDetail, Launched, NewToken, PlanDetail, PublishRequest,
    PublishResult, RunPlan, TokenMade,
};
use arvok_core::{Role, job::JobState};
use chrono::Utc;
use reqwest::Method;
use std::collections::BTreeMap;

const PLAN: &str = "
plan: even-out-yard
summary: One guest at a time goes from the fullest host to the emptiest
runbook: balance-hosts
# In this night all of them were moved just now.
give: { let_be_minutes: 0 }
";
/// When it runs by itself: late on Sundays.
const AT: &str = "at: { cron: \"50 3 * * 0\", zone: Europe/London }\n";
const GUARD: &str = "
guard: moves-one-by-one
summary: One guest of the yard is on its way at a time
concerns: { runbooks: [balance-hosts, relieve-host, move-guest] }
at_once: 1
";
/// Where the guests are at first.
const GUESTS: [(&str, &str); 5] = [
    ("quill-booking-db-1", "quill-hv-1"),
    ("quill-booking-db-2", "quill-hv-2"),
    ("quill-report-2", "quill-hv-2"),
    ("quill-mail-1", "quill-hv-2"),
    ("quill-booking-web-1", "quill-hv-3"),
];

pub async fn play(world: &mut World) -> Result<Account, CliError> {
    let mut account = Account::new("A yard was out of balance, and is evened out under a policy");
    place(world);
    let name = format!("ines-{}", Utc::now().timestamp_millis());
    let asked = NewToken { name: name.clone(), role: Role::Author, automate: right(&[]) };
    let made: TokenMade = world.client.post("/api/v1/tokens", &asked).await?;
    let ines = Client::new(world.client.address().to_owned(), Some(made.token))?;

    // Off by default: what has no times runs when somebody runs it.
    let plan = publish(&ines, PLAN.to_owned()).await?;
    account.want(plan.published, "a plan without times should be an author's to publish");
    let refused = publish(&ines, format!("{PLAN}{AT}")).await.err();
    let refused = refused.map_or_else(String::new, |e| e.to_string());
    account.line(format!("  refused  {refused}"));
    account.want(
        refused.contains("plan `even-out-yard` acts by itself"),
        "that it runs by itself should take a right of its own",
    );
    let given = right(&["even-out-*"]);
    let path = format!("/api/v1/tokens/{name}/automate");
    world.client.change(Method::PUT, &path, Some(&given)).await?;
    world.change(vec![FileText { file: "guard.yaml".into(), text: GUARD.into() }], None).await?;
    let plan = publish(&ines, format!("{PLAN}{AT}")).await?;
    let acts = plan.acts.first().map(|acts| acts.connections.join(", ")).unwrap_or_default();
    account.line(format!("  allowed  plan even-out-yard acts by itself through {acts}"));

    let first = run(world).await?;
    account.job(&first);
    let shares = spread(world);
    account.line(format!("  yard     the hosts differ by {shares} % of their memory"));
    account.want(first.job.state == JobState::Succeeded, "a guest should have been moved");
    account.want(shares < 25, format!("the hosts should differ by little, not by {shares} %"));
    let second = run(world).await?;
    let below = child(world, &second).await?;
    let told = below.job.failure.clone().unwrap_or_default();
    account.line(format!("  told     {told}"));
    account.want(told.contains("that is even enough"), "a second run should have nothing to do");
    account.said(world, "yard", "to even them out");
    let shown: PlanDetail = world.client.get("/api/v1/plans/even-out-yard", &[]).await?;
    account.want(shown.plan.next.is_some(), "it should have its next time");

    world.change(Vec::new(), Some(("plan", "even-out-yard"))).await?;
    world.change(Vec::new(), Some(("guard", "moves-one-by-one"))).await?;
    let gone = format!("/api/v1/tokens/{name}");
    world.client.change(Method::DELETE, &gone, None::<&()>).await?;
    Ok(account)
}

/// The right to automate plans, and all that these reach.
fn right(plans: &[&str]) -> AutomationRight {
    if plans.is_empty() {
        return AutomationRight::default();
    }
    let owned = |of: &[&str]| of.iter().map(|one| (*one).to_owned()).collect();
    let connections = owned(&["yard-hypervisor", "crew-chat", "own-records"]);
    AutomationRight { rules: Vec::new(), plans: owned(plans), connections }
}

async fn publish(client: &Client, text: String) -> Result<PublishResult, CliError> {
    let files = vec![FileText { file: "plan.yaml".into(), text }];
    let (withdraw, expects) = (Vec::new(), Vec::new());
    let request = PublishRequest { files, withdraw, dry_run: false, expects };
    client.post("/api/v1/publish", &request).await
}

/// A run of the plan, to its end.
async fn run(world: &World) -> Result<JobDetail, CliError> {
    let why = RunPlan { why: Some("the yard is uneven".to_owned()) };
    let made: Launched = world.client.post("/api/v1/plans/even-out-yard/run", &why).await?;
    let until = std::time::Instant::now() + 2 * PATIENCE;
    loop {
        let job = until_job(world, made.job, |job| job.finished_at.is_some()).await?;
        if job.finished_at.is_some() || std::time::Instant::now() > until {
            return detail(world, made.job).await;
        }
    }
}

/// The job that a run had done.
async fn child(world: &World, run: &JobDetail) -> Result<JobDetail, CliError> {
    let below = run.children.first();
    let below = below.ok_or_else(|| CliError::Here("the run launched nothing".into()))?;
    detail(world, below.id).await
}

fn place(world: &World) {
    world.harbour.yard.with(|yard| {
        for (guest, host) in GUESTS {
            if let Some(vm) = yard.vms.get_mut(guest) {
                host.clone_into(&mut vm.host);
                vm.moving = None;
            }
        }
    });
}

/// By how many percent of their memory the fullest and the emptiest host differ.
fn spread(world: &World) -> i64 {
    let shares: BTreeMap<String, f64> = world.harbour.yard.with(|yard| {
        let share = |(name, host): (&String, &arvok_standins::yard::Host)| {
            (name.clone(), yard.used_gib(name) / host.memory_gib)
        };
        yard.hosts.iter().map(share).collect()
    });
    let most = shares.values().copied().fold(0.0, f64::max);
    let least = shares.values().copied().fold(1.0, f64::min);
    #[expect(clippy::cast_possible_truncation, reason = "a percentage")]
    let percent = ((most - least) * 100.0).round() as i64;
    percent
}
