//! Errors as problem documents (RFC 9457): one exhaustive match to status and stable code.

use crate::admission::NotTaken;
use actix_web::{
    HttpResponse, ResponseError,
    error::{JsonPayloadError, PathError, QueryPayloadError},
    http::{StatusCode, header},
    web,
};
use arvok_api::{FileProblem, Problem};
use arvok_core::{Role, source::Source};
use arvok_store::{Class, StoreError};
use std::time::Duration;

/// The media type of an error.
pub(crate) const PROBLEM: &str = "application/problem+json";

/// Everything that a request can be refused for.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ApiError {
    #[error("a token is needed: send `Authorization: Bearer ...`, or sign in")]
    NoToken,
    #[error(
        "this source wants its own credential: a name and a password (RFC 7617), or a token with \
        the role author"
    )]
    NoPassword,
    #[error("this is not the name and the password of the source")]
    BadPassword,
    #[error("this source believes what is signed with its key: {0}")]
    UnsignedSender(String),
    #[error("this source believes senders with a certificate of the name that it says: {0}")]
    NoCertificate(String),
    #[error("nothing is taken for this source from {0}")]
    From(String),
    #[error("this token is not known here; it may have been revoked, or the session has ended")]
    BadToken,
    #[error("this needs the role {0} or a higher one; the token has the role {1}")]
    Role(&'static str, &'static str),
    #[error("`{0}` alone is asked, or an admin decides instead")]
    NotAsked(String),
    #[error("whoever is asked signs in first; then the link leads to the question")]
    SignIn,
    #[error(
        "this link is used up: decision {0} is not open any more; who is signed in sees what \
        became of it"
    )]
    LinkUsed(i64),
    #[error("this call back is not believed: {0}")]
    Unsigned(String),
    #[error("a change from the console must carry the header X-Arvok-Console")]
    CrossSite,
    #[error("there is no {0}")]
    NotFound(String),
    #[error("{0}")]
    BadRequest(String),
    #[error("the body has more than {0} bytes")]
    TooLarge(usize),
    #[error("the payload cannot be read: {reason}; it is kept as unreadable {id}")]
    Unreadable { id: i64, reason: String },
    #[error("{0}")]
    Conflict(String),
    #[error("the definitions have {} problems; nothing was published", .0.len())]
    Definitions(Vec<FileProblem>),
    #[error("the rule has {} problems", .0.len())]
    Faulty(Vec<FileProblem>),
    #[error("too many deliveries are waiting; send it again in a second")]
    Busy,
    #[error("this source may send {0}; send it again in {1} s")]
    OverLimit(String, u64),
    #[error("the node has too many questions to answer at the moment; ask again in a second")]
    Asked,
    #[error(
        "as many follow the changes at this node as it has room for; try again later, or at \
        another node"
    )]
    Followed,
    #[error("the body did not come in time")]
    Slow,
    #[error(
        "`{0}` has a new address, opens its session in another way, or a script of it has other code, \
        and names a secret, which would go there; an admin publishes that"
    )]
    Address(String),
    #[error(
        "{0}; publish it with `stance: propose`, or a plan without `at`, or ask an admin for the \
        right (`arvok token automate`)"
    )]
    Automate(String),
    #[error("this takes {0} only")]
    Method(String),
    #[error("other rehearsals are running; try again when they have ended")]
    Rehearsing,
    #[error("the records cannot be reached at the moment; try again")]
    Unavailable,
    #[error("{0}")]
    NotReady(String),
    #[error("something went wrong inside; the log says what")]
    Internal,
}

impl ApiError {
    pub fn role(needed: Role, has: Role) -> Self {
        Self::Role(needed.as_str(), has.as_str())
    }

    /// A source has to wait so long until it may send again.
    pub fn over_limit(source: &Source, wait: Duration) -> Self {
        let limit = source.limit.map(|limit| limit.to_string()).unwrap_or_default();
        Self::OverLimit(limit, wait.as_secs() + 1)
    }

    fn kind(&self) -> (StatusCode, &'static str) {
        match self {
            Self::NoToken => (StatusCode::UNAUTHORIZED, "no-token"),
            Self::BadToken => (StatusCode::UNAUTHORIZED, "bad-token"),
            Self::NoPassword => (StatusCode::UNAUTHORIZED, "no-token"),
            Self::BadPassword => (StatusCode::UNAUTHORIZED, "bad-token"),
            Self::Unsigned(_) | Self::UnsignedSender(_) => (StatusCode::UNAUTHORIZED, "not-signed"),
            Self::NoCertificate(_) => (StatusCode::FORBIDDEN, "no-certificate"),
            Self::From(_) => (StatusCode::FORBIDDEN, "not-from-there"),
            Self::SignIn => (StatusCode::UNAUTHORIZED, "sign-in-needed"),
            Self::LinkUsed(_) => (StatusCode::GONE, "link-used"),
            Self::Role(..) => (StatusCode::FORBIDDEN, "role-too-low"),
            Self::NotAsked(_) => (StatusCode::FORBIDDEN, "not-asked"),
            Self::Address(_) => (StatusCode::FORBIDDEN, "address-with-secret"),
            Self::Automate(_) => (StatusCode::FORBIDDEN, "may-not-automate"),
            Self::CrossSite => (StatusCode::FORBIDDEN, "cross-site"),
            Self::NotFound(_) => (StatusCode::NOT_FOUND, "not-found"),
            Self::BadRequest(_) => (StatusCode::BAD_REQUEST, "bad-request"),
            Self::TooLarge(_) => (StatusCode::PAYLOAD_TOO_LARGE, "too-large"),
            Self::Unreadable { .. } => (StatusCode::UNPROCESSABLE_ENTITY, "unreadable"),
            Self::Conflict(_) => (StatusCode::CONFLICT, "conflict"),
            Self::Definitions(_) | Self::Faulty(_) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "faulty-definitions")
            }
            Self::Busy | Self::Rehearsing | Self::Asked | Self::Followed => {
                (StatusCode::TOO_MANY_REQUESTS, "busy")
            }
            Self::OverLimit(..) => (StatusCode::TOO_MANY_REQUESTS, "over-limit"),
            Self::Slow => (StatusCode::REQUEST_TIMEOUT, "too-slow"),
            Self::Method(_) => (StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed"),
            Self::NotReady(_) => (StatusCode::SERVICE_UNAVAILABLE, "not-ready"),
            Self::Unavailable => (StatusCode::SERVICE_UNAVAILABLE, "unavailable"),
            Self::Internal => (StatusCode::INTERNAL_SERVER_ERROR, "internal"),
        }
    }
}

impl ResponseError for ApiError {
    fn status_code(&self) -> StatusCode {
        self.kind().0
    }

    fn error_response(&self) -> HttpResponse {
        let (status, code) = self.kind();
        let problems = match self {
            Self::Definitions(problems) | Self::Faulty(problems) => problems.clone(),
            _ => Vec::new(),
        };
        let problem = Problem {
            kind: "about:blank".into(),
            title: status.canonical_reason().unwrap_or("Error").into(),
            status: status.as_u16(),
            code: code.into(),
            detail: self.to_string(),
            problems,
        };
        let mut answer = HttpResponse::build(status);
        answer.content_type(PROBLEM);
        match self {
            Self::NoToken | Self::BadToken | Self::SignIn | Self::UnsignedSender(_) => {
                answer.insert_header((header::WWW_AUTHENTICATE, "Bearer"))
            }
            Self::NoPassword | Self::BadPassword => answer.insert_header((
                header::WWW_AUTHENTICATE,
                "Basic realm=\"sender\", charset=\"UTF-8\"",
            )),
            Self::Method(allowed) => answer.insert_header((header::ALLOW, allowed.as_str())),
            Self::Busy | Self::Rehearsing | Self::Asked | Self::Followed => {
                answer.insert_header((header::RETRY_AFTER, "1"))
            }
            Self::OverLimit(_, wait) => {
                answer.insert_header((header::RETRY_AFTER, wait.to_string()))
            }
            Self::Unavailable => answer.insert_header((header::RETRY_AFTER, "5")),
            _ => &mut answer,
        };
        let text = serde_json::to_string(&problem).unwrap_or_default();
        answer.body(text)
    }
}

impl From<NotTaken> for ApiError {
    fn from(e: NotTaken) -> Self {
        match e {
            NotTaken::Store => Self::Unavailable,
            NotTaken::Malformed { id, reason } => Self::Unreadable { id, reason },
        }
    }
}

impl From<StoreError> for ApiError {
    fn from(e: StoreError) -> Self {
        match e {
            StoreError::Revoked(_) | StoreError::TooMany(..) => Self::Conflict(e.to_string()),
            StoreError::Taken(name) => Self::Conflict(format!("the name `{name}` is taken")),
            StoreError::Database(_) if e.is_bad_data() => Self::BadRequest(
                "a value that was given cannot be recorded or looked for: a \
                    character or a time that the database does not know"
                    .into(),
            ),
            StoreError::Database(_) if e.class() == Class::Lasting => {
                tracing::error!("{e}");
                Self::Internal
            }
            StoreError::Database(_) | StoreError::BrokenOff(_) | StoreError::Contended(_) => {
                tracing::error!("{e}");
                Self::Unavailable
            }
            StoreError::Stale(_) => Self::Conflict(
                "more has been published meanwhile; look at it \
                again"
                    .into(),
            ),
            StoreError::Record(_)
            | StoreError::ClaimLost
            | StoreError::Behind
            | StoreError::Ahead(_) => {
                tracing::error!("{e}");
                Self::Internal
            }
        }
    }
}

pub(crate) fn json_config(limit: usize) -> web::JsonConfig {
    web::JsonConfig::default().limit(limit).content_type_required(false).error_handler(
        move |e, _| {
            match e {
                JsonPayloadError::Overflow { .. }
                | JsonPayloadError::OverflowKnownLength { .. } => ApiError::TooLarge(limit),
                JsonPayloadError::Deserialize(e) => {
                    ApiError::BadRequest(format!("the body is not as expected: {e}"))
                }
                other => ApiError::BadRequest(format!("the body cannot be read: {other}")),
            }
            .into()
        },
    )
}

pub(crate) fn query_config() -> web::QueryConfig {
    web::QueryConfig::default().error_handler(|e, _| {
        let QueryPayloadError::Deserialize(e) = e else {
            return ApiError::BadRequest("the query cannot be read".into()).into();
        };
        ApiError::BadRequest(format!("the query is not as expected: {e}")).into()
    })
}

pub(crate) fn path_config() -> web::PathConfig {
    web::PathConfig::default().error_handler(|e, request| {
        let shown = arvok_core::text::cut(request.path(), 80);
        match e {
            PathError::Deserialize(_) => {
                ApiError::NotFound(format!("{shown}; the last part should be a number")).into()
            }
            _ => ApiError::NotFound(shown.to_owned()).into(),
        }
    })
}
