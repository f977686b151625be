//! `arvok standin`: a stand-in by itself, until a signal ends it.

use super::serve::notice;
use crate::{
    args::{OfPort, Standin, WatchedPort},
    error::CliError,
    stop::until_stopped,
};
use arvok_standins::{
    Running, StandinError, Watched, board, chat, cloud, desk,
    device::Device,
    features,
    hypervisor::{GuestsIn, Hypervisor},
    kiosks,
    machine::Machine,
    mailroom, pager, queue, releases, site, switch, yard,
};
use std::time::Duration;

pub async fn standin(which: Standin) -> Result<(), CliError> {
    let failed = |e: arvok_standins::StandinError| CliError::Here(e.to_string());
    match which {
        Standin::Yard { port, token, report_to, report_token } => {
            let options = yard::YardOptions {
                port,
                token,
                report_to: report_to.zip(report_token),
                tick: Duration::from_secs(1),
                seconds_a_tick: 10.0,
            };
            let yard = yard::start(options).map_err(failed)?;
            notice(&format!("the yard is at {}, e.g. {}/v1/vms", yard.url(), yard.url()));
            until_stopped().await?;
            yard.stop().await;
        }
        Standin::Releases { port, token, report_to, report_token } => {
            let desk = releases::start(releases::ReleaseOptions {
                port,
                token,
                report_to: report_to.zip(report_token),
                takes: Duration::from_secs(3),
            });
            let desk = desk.map_err(failed)?;
            notice(&format!(
                "the release desk is at {}, e.g. {}/services/booking-web",
                desk.url(),
                desk.url()
            ));
            until_stopped().await?;
            desk.stop().await;
        }
        Standin::Board { port, token, key } => {
            let board = board::start(board::BoardOptions { port, token, key }).map_err(failed)?;
            notice(&format!(
                "the board takes events at {0}/events, and shows them there",
                board.url()
            ));
            until_stopped().await?;
            board.stop().await;
        }
        Standin::Chat { port, token } => {
            let chat = chat::start(port, token).map_err(failed)?;
            notice(&format!(
                "the chat is at {}, e.g. {}/channels/storage/messages",
                chat.url(),
                chat.url()
            ));
            until_stopped().await?;
            chat.stop().await;
        }
        other => office(other).await?,
    }
    Ok(())
}

/// How long what takes time at a stand-in takes.
const TAKES: Duration = Duration::from_secs(3);

/// A stand-in until it is stopped.
async fn attended<S: Send + 'static>(
    what: &str,
    path: &str,
    at_work: Running<S>,
) -> Result<(), CliError> {
    notice(&format!("the {what} is at {0}, e.g. {0}{path}", at_work.url()));
    until_stopped().await?;
    at_work.stop().await;
    Ok(())
}

/// One that tells of what goes wrong there.
async fn watched<S: Watched + Send + 'static, const PORT: u16>(
    what: &str,
    path: &str,
    told: WatchedPort<PORT>,
    start: impl FnOnce(u16, String) -> Result<Running<S>, StandinError>,
) -> Result<(), CliError> {
    let at_work = start(told.of.port, told.of.token).map_err(|e| CliError::Here(e.to_string()))?;
    attended(what, path, at_work.watched(told.report_to.zip(told.report_token))).await
}

/// One of the smaller stand-ins.
async fn office(which: Standin) -> Result<(), CliError> {
    let failed = |e: arvok_standins::StandinError| CliError::Here(e.to_string());
    match which {
        Standin::Desk { port, token, secret } => {
            let desk = desk::start(desk::DeskOptions { port, token, secret }).map_err(failed)?;
            notice(&format!(
                "the ticket desk is at {0}, and describes itself at {0}/description",
                desk.url()
            ));
            until_stopped().await?;
            desk.stop().await;
        }
        Standin::Machine { port, folder } => {
            let machine = Machine::start(folder, port).map_err(failed)?;
            notice(&format!(
                "the machine is at {}, for {} with the key {}",
                machine.base(),
                machine.user(),
                machine.folder().join("user").display()
            ));
            until_stopped().await?;
        }
        Standin::Device { port, folder } => {
            let device = Device::start(folder, port, "candidate").map_err(failed)?;
            notice(&format!(
                "the device is at {}, for {} with the key {}",
                device.base(),
                device.machine.user(),
                device.machine.folder().join("user").display()
            ));
            until_stopped().await?;
        }
        Standin::Hypervisor { port, folder, qemu } => {
            let guests = if qemu { GuestsIn::Qemu } else { GuestsIn::TestDriver };
            let hypervisor = Hypervisor::start(folder, port, guests).map_err(failed)?;
            notice(&format!(
                "the hypervisor is at {}, for {} with the key {}",
                hypervisor.base(),
                hypervisor.machine.user(),
                hypervisor.machine.folder().join("user").display()
            ));
            until_stopped().await?;
        }
        Standin::Switch { told, netconf_port, folder } => {
            let at_work = switch::start(told.of.port, told.of.token).map_err(failed)?;
            let over_ssh = switch::over_ssh(&at_work, folder, netconf_port).map_err(failed)?;
            let (base, machine) = (over_ssh.base(), &over_ssh.machine);
            let key = machine.folder().join("user");
            notice(&format!(
                "the switch is at {base} as well, for {} with the key {}",
                machine.user(),
                key.display()
            ));
            let told = told.report_to.zip(told.report_token);
            let path = "/restconf/data/ietf-interfaces:interfaces";
            attended("switch", path, at_work.watched(told)).await?;
        }
        Standin::Pager { of: OfPort { port, token }, key } => {
            attended("pager", "/pages", pager::start(port, token, key).map_err(failed)?).await?;
        }
        Standin::Mailroom { port, password } => {
            let mailroom = mailroom::start(port, password).map_err(failed)?;
            notice(&format!(
                "the mailroom is at {}, and takes messages to @skerrow.example",
                mailroom.url()
            ));
            until_stopped().await?;
        }
        Standin::Kiosks(told) => {
            let start = |port, token| kiosks::start(port, token, TAKES);
            watched("register of kiosks", "/kiosks", told, start).await?;
        }
        Standin::Features(told) => {
            watched("features' switches", "/features/new-fares", told, features::start).await?
        }
        Standin::Queue(told) => {
            watched("mail queue", "/queue", told, |port, token| queue::start(port, token, TAKES))
                .await?;
        }
        Standin::Cloud(told) => {
            let start = |port, token| cloud::start(port, token, TAKES);
            watched("cloud", "/instances/timetable-worker-7", told, start).await?;
        }
        Standin::Site(told) => {
            watched("web site", "/pages/sailings", told, |port, token| {
                site::start(port, token, TAKES)
            })
            .await?;
        }
        Standin::Yard { .. }
        | Standin::Releases { .. }
        | Standin::Board { .. }
        | Standin::Chat { .. } => {}
    }
    Ok(())
}
