//! A stand-in's server: bound to loopback, stopped when told.

use actix_web::{App, HttpResponse, HttpServer, dev::ServerHandle, web};
use std::net::TcpListener;

/// A stand-in that could not start.
#[derive(Debug, thiserror::Error)]
pub enum StandinError {
    /// Its port cannot be had.
    #[error("the stand-in cannot listen on 127.0.0.1:{port}: {error}")]
    Port {
        /// The port.
        port: u16,
        /// Why.
        error: std::io::Error,
    },
    /// Its key is none.
    #[error("the key is not `whsec_` and base64: {0}")]
    Key(String),
    /// Something that a machine needs is not there.
    #[error("no machine can be reached over SSH: {0}")]
    Machine(std::io::Error),
}

/// A running stand-in.
#[derive(Debug)]
pub struct Server {
    port: u16,
    handle: ServerHandle,
}

impl Server {
    /// Serves routes on a port of loopback; 0 takes a free one.
    pub(crate) fn start<F>(port: u16, configure: F) -> Result<Self, StandinError>
    where
        F: Fn(&mut web::ServiceConfig) + Send + Clone + 'static,
    {
        let wrong = |error| StandinError::Port { port, error };
        let listener = TcpListener::bind(("127.0.0.1", port)).map_err(wrong)?;
        let bound = listener.local_addr().map_err(wrong)?.port();
        let server = HttpServer::new(move || {
            let json = web::JsonConfig::default().limit(64 << 10);
            App::new().app_data(json).configure(configure.clone())
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .listen(listener)
        .map_err(wrong)?
        .run();
        let handle = server.handle();
        tokio::spawn(server);
        Ok(Self { port: bound, handle })
    }

    /// The base address.
    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Stops it.
    pub async fn stop(&self) {
        self.handle.stop(false).await;
    }
}

/// An answer that breaks off: the length it promises never comes.
pub(crate) fn cut_off() -> HttpResponse {
    let broken = futures_util::stream::once(async {
        Err::<web::Bytes, _>(std::io::Error::other("hung up"))
    });
    HttpResponse::Ok().no_chunking(1 << 20).streaming(broken)
}
