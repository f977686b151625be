//! What stands around nodes in production: a balancer before them, and an address of the database
//! that leads elsewhere after a failover.

use super::{block, folder, spawn, until};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use std::{
    fs,
    process::{Command, Stdio},
    sync::{Arc, Mutex, PoisonError},
};
use tokio::{
    net::{TcpListener, TcpStream},
    sync::watch,
    task::JoinHandle,
};

/// A plain balancer of HTTP that asks nodes whether they are ready.
pub struct Balancer {
    pub url: String,
    port: u16,
    _running: SupervisedChild,
}

impl Balancer {
    /// Before the nodes at these addresses; it sends to all of them.
    pub fn before(nodes: &[&str]) -> Self {
        let port = free_port().expect("a free port");
        let server = |(n, address): (usize, &&str)| {
            format!("  server n{n} {} check\n", address.trim_start_matches("http://"))
        };
        let servers: String = nodes.iter().enumerate().map(server).collect();
        let text = format!(
            "global\n  maxconn 500\ndefaults\n  mode http\n  timeout connect 2s\n  timeout client \
            30s\n  timeout server 30s\n\
            frontend front\n  bind 127.0.0.1:{port}\n  stats enable\n  stats uri /balancer\n  \
            default_backend nodes\n\
            backend nodes\n  balance roundrobin\n  option redispatch\n  option httpchk GET \
            /readyz\n  http-check expect status 200\n\
            default-server inter 500ms fall 1 rise 1\n{servers}"
        );
        let text = text.replace("\ndefault-server", "\n  default-server");
        let file = folder("balancer").join("haproxy.cfg");
        fs::write(&file, text).expect("writes");
        let mut command = Command::new("/usr/sbin/haproxy");
        command.arg("-db").arg("-f").arg(&file);
        let running =
            spawn_supervised(&command, "TERM", Stdio::null(), Stdio::null()).expect("it starts");
        let balancer = Self { url: format!("http://127.0.0.1:{port}"), port, _running: running };
        balancer.sends_to(nodes.len());
        balancer
    }

    /// Waits until it sends to so many nodes.
    pub fn sends_to(&self, nodes: usize) {
        let url = format!("http://127.0.0.1:{}/balancer;csv", self.port);
        until("the balancer to send to all nodes", || {
            let page = block(async { reqwest::get(&url).await.ok()?.text().await.ok() })?;
            let up = page
                .lines()
                .filter(|line| line.starts_with("nodes,n") && line.contains(",UP,"))
                .count();
            (up == nodes).then_some(())
        });
    }
}

/// An address on loopback that leads to a port, and to another when it is told so.
pub struct Leads {
    pub port: u16,
    to: Arc<Mutex<u16>>,
    cut: watch::Sender<()>,
    accepting: JoinHandle<()>,
}

impl Leads {
    pub fn to(port: u16) -> Self {
        let listener = block(TcpListener::bind("127.0.0.1:0")).expect("a port");
        let own = listener.local_addr().expect("an address").port();
        let (to, (cut, cuts)) = (Arc::new(Mutex::new(port)), watch::channel(()));
        let leads = Arc::clone(&to);
        let accepting = spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                let port = *leads.lock().unwrap_or_else(PoisonError::into_inner);
                let mut cuts = cuts.clone();
                cuts.mark_unchanged();
                tokio::spawn(async move {
                    let Ok(mut far) = TcpStream::connect(("127.0.0.1", port)).await else { return };
                    tokio::select! {
                        _ = tokio::io::copy_bidirectional(&mut near, &mut far) => {}
                        _ = cuts.changed() => {}
                    }
                });
            }
        });
        Self { port: own, to, cut, accepting }
    }

    /// From now on it leads there, also those who are connected.
    pub fn now_to(&self, port: u16) {
        *self.to.lock().unwrap_or_else(PoisonError::into_inner) = port;
        let _ = self.cut.send(());
    }
}

impl Drop for Leads {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}
