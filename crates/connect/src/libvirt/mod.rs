//! Hypervisors through libvirt: performs what the core has planned, in a session on a line over SSH
//! that is kept ([`crate::ssh`]).
//!
//! [`xdr`] has values as they go over the line, [`rpc`] the calls, [`session`] what is asked in
//! them, [`acts`] what is done with that by a [`call`], and [`migrate`] moves a guest.

mod acts;
mod call;
mod migrate;
mod rpc;
mod session;
mod xdr;

use crate::{
    driver::{Called, Driver, Way, unsent},
    machine::must_be_one,
    ssh::Ssh,
};
use arvok_core::connector::{Answer, CallEnd, Failure, LibvirtPlan};
use call::{ActError, Making};
use reqwest::Url;
use rpc::RpcError;
use serde_json::Map;
use session::Session;
use tokio::time::Instant;

/// Where libvirt's socket is, if the address does not say.
const SOCKET: &str = "/var/run/libvirt/libvirt-sock";

/// The driver.
#[derive(Debug)]
pub(crate) struct Libvirt<'s>(pub &'s Ssh);

/// The socket that an address means.
fn socket(base: &str) -> String {
    // A star is no host of an address; what follows it is read alike.
    let path = Url::parse(&base.replacen('*', "any", 1)).map(|url| url.path().to_owned());
    path.ok().filter(|path| path.len() > 1).unwrap_or_else(|| SOCKET.to_owned())
}

impl Libvirt<'_> {
    async fn session(&self, way: Way<'_>, host: Option<&str>) -> Result<Session, Failure> {
        let begun = Instant::now();
        let path = socket(way.base);
        let socket = self.0.socket(way, host, &path).await?;
        let machine = socket.machine.clone();
        let left = way.timeout.saturating_sub(begun.elapsed());
        let why = match tokio::time::timeout(left, Session::begin(socket)).await {
            Ok(Ok(session)) => return Ok(session),
            Ok(Err(RpcError::Said(error))) => error.message,
            Ok(Err(RpcError::Broken(why))) => why,
            Err(_) => format!("no answer within {} s", way.timeout.as_secs_f32()),
        };
        let message = format!("{machine}: libvirt at {path} does not let us in: {why}");
        Err(Failure::new(CallEnd::NotSent, message))
    }

    /// Looks whether a host's libvirt answers and lets us in.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        must_be_one(way)?;
        let mut session = self.session(way, None).await?;
        let machine = session.machine.clone();
        let looking = async {
            let (host, version) = (session.host().await?, session.version().await?);
            Ok::<_, RpcError>((host.name, version))
        };
        let silent =
            |why: &str| unsent(format!("{machine}: libvirt says nothing of itself: {why}"));
        let looked = tokio::time::timeout(way.timeout, looking).await;
        let (name, version) = match looked {
            Ok(Ok(looked)) => looked,
            Ok(Err(RpcError::Said(error))) => return Err(silent(&error.message)),
            Ok(Err(RpcError::Broken(why))) => return Err(silent(&why)),
            Err(_) => return Err(silent("no answer in time")),
        };
        session.end().await;
        let version =
            [version / 1_000_000, version / 1000 % 1000, version % 1000].map(|n| n.to_string());
        Ok(format!("{machine} lets us in; it is {name}, with a hypervisor {}", version.join(".")))
    }
}

impl Driver<LibvirtPlan<'_>> for Libvirt<'_> {
    async fn perform(
        &self,
        plan: LibvirtPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let begun = Instant::now();
        let mut session = self.session(way, plan.host()).await?;
        let machine = session.machine.clone();
        let within = way.timeout.saturating_sub(begun.elapsed());
        let (mut has_been_asked, mut is_done) = (false, false);
        let making = Making {
            has_been_asked: &mut has_been_asked,
            is_done: &mut is_done,
            within,
            live: way.live,
        };
        let acting = acts::perform(&mut session, &plan, making);
        let acted = tokio::time::timeout(within, acting).await;
        let end = match (is_done, has_been_asked) {
            (true, _) => CallEnd::Done,
            (false, true) => CallEnd::Unknown,
            (false, false) => CallEnd::NotSent,
        };
        let called = match acted {
            Ok(Ok(response)) => {
                session.end().await;
                *last = Some(Answer { status: 0, headers: Map::new(), body: response.clone() });
                plan.came(response)
            }
            Ok(Err(ActError::Failed(failure))) => Err(failure),
            Ok(Err(ActError::Rpc(RpcError::Said(error)))) => {
                session.end().await;
                let failure = plan.failed(&error, has_been_asked);
                Err(if is_done { Failure { end, ..failure } } else { failure })
            }
            Ok(Err(ActError::Rpc(RpcError::Broken(why)))) => Err(Failure::new(end, why)),
            Err(_) => {
                let seconds = way.timeout.as_secs_f32();
                Err(Failure::new(end, format!("no answer within {seconds} s")))
            }
        };
        called.map(Called::Output).map_err(|failure| Failure {
            message: format!("{machine}: {}", failure.message),
            ..failure
        })
    }
}
