//! `arvok send`, `arvok alert`, `arvok alarm`.

use super::list::{list, until_there_is_one};
use crate::{
    args::{AlarmCommand, AlertCommand, Send, Server},
    client::Client,
    error::{CliError, file},
    show,
    spool::{self, SpooledPayload, door},
};
use arvok_api::{
    AlarmDetail, AlarmFilter, AlertDetail, AlertFilter, AlertWhy, DeliveryAnswer, NewAlarmAct,
};
use arvok_core::{AlertState, alarm::AlarmAct, alert::SeverityRange};
use reqwest::Method;
use serde_json::{Map, Value, json};
use std::io::Read;

/// A body in the normal form, whatever the source expects from its own sender.
const NORMAL: &str = "application/vnd.arvok.alert+json";

pub async fn send(send: Send) -> Result<(), CliError> {
    let client = match &send.credential {
        Some(credential) => {
            Client::new(Client::of(&send.server)?.address().to_owned(), Some(credential.clone()))?
        }
        None => Client::of(&send.server)?,
    };
    if let Some(spool) = &send.spool {
        let nothing = send.payload.is_none() && send.kind.is_none();
        let new = if nothing { None } else { Some(waiting(&send)?) };
        return spool::report(spool, spool::deliver(spool, new, &client).await?);
    }
    let (kind, body) = composed(&send)?;
    let taken: DeliveryAnswer =
        client.deliver(&door(&send.source, send.for_real), kind, None, body).await?;
    if send.output.json { show::json(&taken) } else { shown(&show::taken(&taken)) }
}

/// Content type and body.
fn composed(send: &Send) -> Result<(&'static str, Vec<u8>), CliError> {
    Ok(match &send.payload {
        Some(path) => ("application/json", payload(path)?),
        None => (NORMAL, from_flags(send)?.to_string().into_bytes()),
    })
}

fn waiting(send: &Send) -> Result<SpooledPayload, CliError> {
    let (kind, body) = composed(send)?;
    let body =
        String::from_utf8(body).map_err(|_| CliError::Usage("the payload is not UTF-8".into()))?;
    let key = arvok_service::secret_text("");
    Ok(SpooledPayload {
        source: send.source.clone(),
        content_type: kind.to_owned(),
        key,
        body,
        for_real: send.for_real,
    })
}

fn shown(text: &str) -> Result<(), CliError> {
    show::out(text);
    Ok(())
}

pub(super) fn payload(path: &std::path::Path) -> Result<Vec<u8>, CliError> {
    if path.as_os_str() == "-" {
        let mut bytes = Vec::new();
        std::io::stdin()
            .read_to_end(&mut bytes)
            .map_err(|e| CliError::Here(format!("standard input: {e}")))?;
        return Ok(bytes);
    }
    std::fs::read(path).map_err(|e| file(path, e))
}

fn from_flags(send: &Send) -> Result<Value, CliError> {
    let (Some(kind), Some(resource)) = (&send.kind, &send.resource) else {
        return Err(CliError::Usage(
            "give --kind and --resource, or a file with the payload (- for standard input)".into(),
        ));
    };
    let labels: Map<String, Value> = super::pairs("--label", &send.labels, "site=quill")?
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value.into()))
        .collect();
    let mut alert = json!({
        "kind": kind, "resource": resource, "severity": send.severity, "state": send.state,
            "labels": labels,
    });
    for (key, value) in [
        ("id", send.id.clone().map(Value::from)),
        ("summary", send.summary.clone().map(Value::from)),
        ("value", send.value.map(Value::from)),
    ] {
        if let Some(value) = value {
            alert[key] = value;
        }
    }
    Ok(alert)
}

/// Severities as lists are asked for them.
fn severities(text: Option<&str>) -> Result<Option<SeverityRange>, CliError> {
    let parsed = text.map(SeverityRange::parse).transpose();
    parsed.map_err(|e| CliError::Usage(format!("severity: {e}")))
}

pub async fn alert(command: AlertCommand) -> Result<(), CliError> {
    match command {
        AlertCommand::List {
            source,
            kind,
            severity,
            state,
            resource,
            rule,
            verdict,
            outcome,
            text,
            wait,
            window,
            paging,
            server,
            output,
        } => {
            let (since, until) = super::window(&window)?;
            let filter = AlertFilter {
                since,
                until,
                source,
                kind,
                severity: severities(severity.as_deref())?,
                state: super::word(state.as_deref())?,
                resource,
                rule,
                verdict: verdict.map(|text| text.parse()).transpose().map_err(CliError::Usage)?,
                outcome: super::word(outcome.as_deref())?,
                text,
                ..AlertFilter::default()
            };
            let client = Client::of(&server)?;
            if wait {
                until_there_is_one(&client, "/api/v1/alerts", &filter).await?;
            }
            list(&client, "/api/v1/alerts", &filter, (&paging, output), show::alerts).await
        }
        AlertCommand::Why(by) => {
            let why: AlertWhy =
                Client::of(&by.server)?.get(&format!("/api/v1/alerts/{}/why", by.id), &[]).await?;
            if by.output.json { show::json(&why) } else { shown(&show::alert_why(by.id, &why)) }
        }
        AlertCommand::Show(one) => {
            let detail: AlertDetail =
                Client::of(&one.server)?.get(&format!("/api/v1/alerts/{}", one.id), &[]).await?;
            if one.output.json { show::json(&detail) } else { shown(&show::alert(&detail)) }
        }
    }
}

pub async fn alarm(command: AlarmCommand) -> Result<(), CliError> {
    match command {
        AlarmCommand::List {
            all,
            severity,
            window,
            source,
            kind,
            resource,
            paging,
            server,
            output,
        } => {
            let (since, until) = super::window(&window)?;
            let filter = AlarmFilter {
                severity: severities(severity.as_deref())?,
                since,
                until,
                state: (!all).then_some(AlertState::Raised),
                source,
                kind,
                resource,
                ..AlarmFilter::default()
            };
            list(&Client::of(&server)?, "/api/v1/alarms", &filter, (&paging, output), show::alarms)
                .await
        }
        AlarmCommand::Acknowledge { id, text, server } => {
            act(&server, id, AlarmAct::Acknowledged, text).await?;
            shown(&format!("alarm {id} is acknowledged"))
        }
        AlarmCommand::Note { id, text, server } => {
            act(&server, id, AlarmAct::Noted, text).await?;
            shown(&format!("noted with alarm {id}"))
        }
        AlarmCommand::Clear { id, reason, server } => {
            act(&server, id, AlarmAct::Cleared, reason).await?;
            shown(&format!("alarm {id} is cleared"))
        }
        AlarmCommand::Show(one) => {
            let detail: AlarmDetail =
                Client::of(&one.server)?.get(&format!("/api/v1/alarms/{}", one.id), &[]).await?;
            if one.output.json { show::json(&detail) } else { shown(&show::alarm(&detail)) }
        }
    }
}

async fn act(server: &Server, id: i64, act: AlarmAct, text: String) -> Result<(), CliError> {
    let path = format!("/api/v1/alarms/{id}/acts");
    Client::of(server)?.change(Method::POST, &path, Some(&NewAlarmAct { act, text })).await
}
