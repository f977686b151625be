//! Sessions at outside systems: opened by the connector's own request, used by all calls of a
//! connection, opened anew when they are refused, and ended when nobody uses them any more.

use super::cache::CredentialCache;
use crate::{
    driver::{Way, unsent},
    http::request::{answered, build, put_header},
};
use arvok_core::{
    Period,
    connector::{CallEnd, Failure, Next, OpenedSession, Session},
};
use reqwest::Client;
use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// How long the end of a session is waited for when all of them end.
const ENDING: Duration = Duration::from_secs(3);

/// A session that is open.
pub(in crate::http) struct KeptSession {
    pub opened: OpenedSession,
    idle: Duration,
    until: Option<Instant>,
    used: Mutex<Instant>,
    /// How many requests have it.
    uses: watch::Sender<usize>,
    has_ended: AtomicBool,
    client: Client,
    base: String,
    timeout: Duration,
}

impl std::fmt::Debug for KeptSession {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.base)
    }
}

/// A session in the hand of a request: it does not end meanwhile.
#[derive(Debug)]
pub(in crate::http) struct UsedSession(Arc<KeptSession>);

impl UsedSession {
    fn new(session: &Arc<KeptSession>) -> Self {
        session.uses.send_modify(|uses| *uses += 1);
        session.touch();
        Self(Arc::clone(session))
    }
}

impl Drop for UsedSession {
    fn drop(&mut self) {
        self.0.touch();
        self.0.uses.send_modify(|uses| *uses -= 1);
    }
}

impl std::ops::Deref for UsedSession {
    type Target = KeptSession;

    fn deref(&self) -> &KeptSession {
        &self.0
    }
}

/// One place for each credential, locked while its session is opened, so that it is opened once.
type Place = Arc<tokio::sync::Mutex<Option<Arc<KeptSession>>>>;

#[derive(Debug, Default)]
pub(super) struct Sessions(CredentialCache<Place>);

impl Sessions {
    /// A session; the one that is kept, unless it is `refused`.
    pub async fn session(
        &self,
        client: &Client,
        way: Way<'_>,
        session: &Session,
        given: &BTreeMap<String, String>,
        refused: Option<&UsedSession>,
    ) -> Result<UsedSession, Failure> {
        let of = (way.base, way.authorities, session.written.as_str(), given);
        let place = self.0.with(of, |place| Arc::clone(place));
        let opening = async {
            let mut kept = place.lock().await;
            if let Some(one) = kept.as_ref().filter(|one| one.is_good(refused)) {
                return Ok(UsedSession::new(one));
            }
            if let Some(old) = kept.take() {
                // It may be one that is good still and may not do this alone: it would be counted.
                tokio::spawn(end_when_unused(old));
            }
            let opened = Arc::new(open(client, way, session, given).await?);
            let used = UsedSession::new(&opened);
            *kept = Some(Arc::clone(&opened));
            tokio::spawn(end_when_idle(Arc::clone(&place), opened));
            Ok(used)
        };
        // Whoever stands behind others that ask in vain does not wait for all of them.
        let late = || {
            let within = way.timeout.as_secs_f32();
            let message = format!("no session at {}: no answer within {within} s", way.base);
            Failure::new(CallEnd::NotSent, message)
        };
        tokio::time::timeout(way.timeout, opening).await.unwrap_or_else(|_| Err(late()))
    }

    /// Ends all of them.
    pub async fn close(&self) {
        let ending = self.0.take().into_iter().map(|place| async move {
            let kept = place.lock().await.take();
            if let Some(session) = kept {
                session.end().await;
            }
        });
        _ = tokio::time::timeout(ENDING, futures_util::future::join_all(ending)).await;
    }
}

/// Opens a session.
async fn open(
    client: &Client,
    way: Way<'_>,
    session: &Session,
    given: &BTreeMap<String, String>,
) -> Result<KeptSession, Failure> {
    let none = |failure: Failure| Failure {
        message: format!("no session at {}: {}", way.base, failure.message),
        // Of the call itself nothing was sent.
        end: CallEnd::NotSent,
        ..failure
    };
    let mut exchange = session.begin(given).map_err(|e| none(unsent(e.to_string())))?;
    let request = build(client, way, exchange.request()).map_err(none)?;
    let answer = answered(client, request, way).await.map_err(none)?;
    let gave = match exchange.answered(answer, Period::from_millis(0)) {
        Next::Output(gave) => gave,
        Next::Failed(failure) => return Err(none(failure)),
        Next::Send(..) | Next::CalledBack(_) => {
            return Err(none(unsent("one request does not open it".into())));
        }
    };
    let opened = session.opened(&gave);
    let opened = opened.map_err(|e| none(unsent(format!("what opened it does not fit: {e}"))))?;
    let period = |period: Period| Duration::from_millis(period.millis());
    let now = Instant::now();
    Ok(KeptSession {
        opened,
        idle: period(session.idle),
        until: session.lasts.map(|lasts| now + period(lasts)),
        used: Mutex::new(now),
        uses: watch::Sender::new(0),
        has_ended: AtomicBool::new(false),
        client: client.clone(),
        base: way.base.to_owned(),
        timeout: way.timeout,
    })
}

impl KeptSession {
    fn is_good(&self, refused: Option<&UsedSession>) -> bool {
        let is_refused = refused.is_some_and(|refused| std::ptr::eq(self, &**refused));
        !is_refused && self.stays_for().is_some()
    }

    fn is_used(&self) -> bool {
        *self.uses.borrow() > 0
    }

    fn touch(&self) {
        *self.used.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
    }

    /// How long it is used yet if no further call uses it; none: its time is over.
    fn stays_for(&self) -> Option<Duration> {
        let used = *self.used.lock().unwrap_or_else(PoisonError::into_inner);
        let idle = match self.is_used() {
            true => self.idle,
            false => self.idle.saturating_sub(used.elapsed()),
        };
        let lasts = self.until.map(|until| until.saturating_duration_since(Instant::now()));
        Some(lasts.map_or(idle, |lasts| lasts.min(idle))).filter(|left| !left.is_zero())
    }

    /// Ends it at the other side, once.
    async fn end(&self) {
        let Some(logout) = &self.opened.logout else { return };
        if self.has_ended.swap(true, Ordering::Relaxed) {
            return;
        }
        let way = Way::to(&self.base, self.timeout);
        let Ok(mut request) = build(&self.client, way, logout) else { return };
        for (name, value) in &self.opened.headers {
            if put_header(&mut request, name, value).is_err() {
                return;
            }
        }
        // Whatever comes of it: the other side ends by itself what is not used.
        _ = answered(&self.client, request, way).await;
    }
}

/// Ends a session when no call has used it for a while, or it has lasted.
async fn end_when_idle(place: Place, session: Arc<KeptSession>) {
    while let Some(left) = session.stays_for() {
        tokio::time::sleep(left).await;
        if session.has_ended.load(Ordering::Relaxed) {
            return;
        }
    }
    let mut kept = place.lock().await;
    if kept.as_ref().is_some_and(|one| Arc::ptr_eq(one, &session)) {
        *kept = None;
    }
    drop(kept);
    end_when_unused(session).await;
}

/// Ends a session that no further call gets, when those are over that have it.
async fn end_when_unused(session: Arc<KeptSession>) {
    _ = session.uses.subscribe().wait_for(|uses| *uses == 0).await;
    session.end().await;
}
