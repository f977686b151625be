//! `arvok runner`.

use crate::{
    args::{RunRunner, RunnerArgs, RunnerCommand},
    client::{Client, percent},
    error::CliError,
    log, show,
    stop::until_stopped,
    terminal::notice,
};
use arvok_api::{NewRunner, RunnerItem, RunnerMade};
use arvok_core::Labels;
use arvok_runner::{OwnSecrets, RunnerError, RunnerOptions};
use reqwest::Method;
use std::fs;

pub async fn runner(args: RunnerArgs) -> Result<(), CliError> {
    match args.command {
        None => run(args.run).await,
        Some(RunnerCommand::List { server, output }) => {
            let runners: Vec<RunnerItem> = Client::of(&server)?.get("/api/v1/runners", &[]).await?;
            if output.json {
                return show::json(&runners);
            }
            show::out(&show::runners(&runners));
            Ok(())
        }
        Some(RunnerCommand::Add { name, labels, server, output }) => {
            let new = NewRunner { name, labels: labels.0 };
            let made: RunnerMade = Client::of(&server)?.post("/api/v1/runners", &new).await?;
            if output.json {
                return show::json(&made);
            }
            let RunnerMade { name, labels, token } = made;
            notice(&format!(
                "runner {name} is known; it serves connections `through` {}. Its token is shown \
                this once:",
                Labels(labels)
            ));
            show::out(&token);
            Ok(())
        }
        Some(RunnerCommand::Remove { name, server }) => {
            let path = format!("/api/v1/runners/{}", percent(&name));
            Client::of(&server)?.change(Method::DELETE, &path, None::<&()>).await?;
            show::out(&format!("runner {name} is known no more"));
            Ok(())
        }
    }
}

/// Runs one until a signal ends it.
async fn run(run: RunRunner) -> Result<(), CliError> {
    let RunRunner { server, token_file, labels, at_once, secrets } = run;
    let (Some(server), Some(file)) = (server, token_file) else {
        return Err(CliError::Usage("--server and --token-file are needed".into()));
    };
    log::start()?;
    let shown = file.display();
    let token = fs::read_to_string(&file)
        .map_err(|e| CliError::Here(format!("the token file {shown}: {e}")))?;
    if token.trim().is_empty() {
        return Err(CliError::Here(format!("the token file {shown} is empty")));
    }
    let secrets = match secrets {
        None => OwnSecrets::default(),
        Some(file) => OwnSecrets::read(&file).map_err(|e| CliError::Here(e.to_string()))?,
    };
    let serves = labels.as_ref().map_or_else(|| "all that it may".to_owned(), Labels::to_string);
    notice(&format!("a runner of {server} for {serves}; Ctrl-C ends it"));
    let options = RunnerOptions {
        server,
        token: token.trim().to_owned(),
        serves: labels,
        at_once,
        secrets,
        build: env!("CARGO_PKG_VERSION").to_owned(),
    };
    let stop = async {
        // Without signals it cannot be stopped in order; it still works.
        if until_stopped().await.is_err() {
            std::future::pending::<()>().await;
        }
    };
    arvok_runner::run(options, stop).await.map_err(|e| match e {
        RunnerError::Here(why) => CliError::Here(why),
        RunnerError::Unreachable(why) | RunnerError::Later(why) => CliError::Unreachable(why),
        RunnerError::Denied(why) => CliError::Denied(why),
        RunnerError::Refused(why) => CliError::Refused(why),
    })
}
