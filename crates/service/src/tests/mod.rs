//! The handlers without a socket: a node over a real database, asked as the server would ask it.

mod doors;
mod followers;
mod publishing;
mod roles;
mod timelines;
mod troubles;

use crate::{
    admission::{AdmissionControl, Queue},
    api, clock,
    config::Config,
    intake,
    node::Node,
    serve,
};
use actix_web::{
    App, ResponseError,
    body::MessageBody,
    dev::ServiceResponse,
    http::header,
    middleware::from_fn,
    test::{TestRequest, init_service, read_body, try_call_service},
    web,
};
use arvok_api::AutomationRight;
use arvok_connect::{Drivers, Vault};
use arvok_core::{Principal, Role};
use arvok_postgres::{PostgresError, Scratch};
use arvok_store::{Purpose, access, connect, schema, secrets};
use serde_json::Value;
use std::{path::PathBuf, sync::OnceLock};
use tokio::{sync::watch, task::JoinHandle};

fn scratch() -> &'static Scratch {
    static SCRATCH: OnceLock<Scratch> = OnceLock::new();
    SCRATCH.get_or_init(|| {
        // Beside the test's own program, wherever the target folder is.
        let program = std::env::current_exe().expect("a program");
        let target: PathBuf = program.ancestors().nth(3).expect("a target folder").join("tmp/desk");
        std::fs::create_dir_all(&target).expect("a folder");
        Scratch::start(&target).expect("a PostgreSQL")
    })
}

/// A node that nobody listens for: its handlers are called.
pub(crate) struct Desk {
    pub node: web::Data<Node>,
    queue: Queue,
    pipeline: Option<JoinHandle<()>>,
    _stop: watch::Sender<bool>,
}

/// An answer with its body read.
#[derive(Debug)]
pub(super) struct Said {
    pub status: u16,
    pub json: Value,
    pub retry_after: Option<String>,
}

impl Desk {
    /// With a token for each role, named as the role, and intake at work.
    pub async fn new() -> Self {
        let mut desk = Self::idle().await;
        let (node, queue) = (desk.node.clone().into_inner(), desk.queue.clone());
        desk.pipeline = Some(tokio::spawn(intake::pipeline(node, queue, 0)));
        desk
    }

    /// The same, but whatever is admitted waits.
    pub async fn idle() -> Self {
        let migrate = async |url: String| {
            let db = connect(&url, 4, Purpose::Work).await.expect("connects");
            schema::migrate(&db).await.expect("migrates");
            Ok::<_, PostgresError>(db.close().await?)
        };
        let url = scratch().filled(migrate).await.expect("a database");
        let pools = serve::pools(&url, 12).await.expect("connects");
        for role in [Role::Viewer, Role::Responder, Role::Author, Role::Admin] {
            access::add_token(&pools.work, role.as_str(), role, role.as_str(), clock::now())
                .await
                .expect("adds");
        }
        let all = || vec!["*".to_owned()];
        let right = AutomationRight { rules: all(), plans: all(), connections: all() };
        let by = Principal::node("here");
        access::set_automation(&pools.work, "author", &right, &by).await.expect("sets");
        let (door, queue) = AdmissionControl::new();
        let (stop, stopping) = watch::channel(false);
        let vault = Vault::new(&Vault::new_key().expect("a key")).expect("opens");
        let tools = (vault, Drivers::new().expect("a client"));
        let node = Node::new(&Config::default(), pools, "here".into(), None, tools, door, stopping);
        let sealed = node.calls.vault.seal("x", "pier-sender-token").expect("seals");
        let secret =
            secrets::Sealed { name: "x".into(), sealed, allowed: vec!["source/pier".into()] };
        secrets::set(&node.pools.work, secret, clock::now()).await.expect("sets");
        node.reload().await.expect("loads");
        // As the heartbeat does.
        node.vitals.committed();
        Self { node: web::Data::new(node), queue, pipeline: None, _stop: stop }
    }

    /// The head of an answer, its body unread.
    pub async fn head(
        &self,
        request: TestRequest,
    ) -> Result<ServiceResponse<impl MessageBody + use<>>, actix_web::Error> {
        let app = App::new()
            .app_data(self.node.clone())
            .wrap(from_fn(api::guard_headers))
            .configure(api::configure);
        let app = init_service(app).await;
        try_call_service(&app, request.to_request()).await
    }

    /// A whole answer.
    pub async fn ask(&self, request: TestRequest) -> Said {
        let answer = match self.head(request).await {
            Ok(answer) => answer.map_into_boxed_body(),
            Err(e) => {
                let refused = TestRequest::default().to_srv_response(e.error_response());
                refused.map_into_boxed_body()
            }
        };
        let status = answer.status().as_u16();
        let retry_after = answer
            .headers()
            .get(header::RETRY_AFTER)
            .and_then(|v| v.to_str().ok())
            .map(str::to_owned);
        let body = read_body(answer).await;
        let json =
            serde_json::from_slice(&body).unwrap_or_else(|_| String::from_utf8_lossy(&body).into());
        Said { status, json, retry_after }
    }

    /// Publishes as an author.
    pub async fn publish(&self, text: &str) -> Said {
        let body = serde_json::json!({ "files": [{ "file": "a.yaml", "text": text }] });
        let said =
            self.ask(authored(TestRequest::post().uri("/api/v1/publish")).set_json(body)).await;
        self.node.reload().await.expect("loads");
        said
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        if let Some(pipeline) = &self.pipeline {
            pipeline.abort();
        }
    }
}

/// With the token of that name.
pub(super) fn shown(request: TestRequest, token: &str) -> TestRequest {
    request.insert_header((header::AUTHORIZATION, format!("Bearer {token}")))
}

/// By an author.
pub(super) fn authored(request: TestRequest) -> TestRequest {
    shown(request, "author")
}

/// What a problem document says in a line.
pub(super) fn told(said: &Said) -> String {
    let detail = said.json["detail"].as_str().map_or_else(|| said.json.to_string(), str::to_owned);
    format!("{} {}: {detail}", said.status, said.json["code"].as_str().unwrap_or("-"))
}
