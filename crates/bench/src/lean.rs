//! A client that costs next to nothing, since it shares the cores with what it measures: requests
//! written beforehand, over connections that are kept.

use crate::Fallible;
use std::time::Instant;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};

/// Requests a second: each body posted once, shared among so many connections.
pub async fn rate(address: &str, bodies: &[String], connections: usize) -> Fallible<f64> {
    let host = address.trim_start_matches("http://").to_owned();
    let requests: Vec<Vec<u8>> = bodies
        .iter()
        .map(|body| {
            format!(
                "POST /in/bench HTTP/1.1\r\nhost: {host}\r\nauthorization: Bearer bench\r\n\
                 content-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
                body.len()
            )
            .into_bytes()
        })
        .collect();
    let many = requests.len();
    let mut lanes: Vec<Vec<Vec<u8>>> = vec![Vec::new(); connections];
    for (n, request) in requests.into_iter().enumerate() {
        lanes[n % connections].push(request);
    }
    let begun = Instant::now();
    let tasks: Vec<_> =
        lanes.into_iter().map(|lane| tokio::spawn(post(host.clone(), lane))).collect();
    for task in tasks {
        task.await?.map_err(|e| e.to_string())?;
    }
    Ok(many as f64 / begun.elapsed().as_secs_f64())
}

async fn post(host: String, requests: Vec<Vec<u8>>) -> Result<(), String> {
    let failed = |e: std::io::Error| e.to_string();
    let mut stream = TcpStream::connect(&host).await.map_err(failed)?;
    stream.set_nodelay(true).map_err(failed)?;
    let mut buffer = vec![0; 16 << 10];
    for request in requests {
        loop {
            stream.write_all(&request).await.map_err(failed)?;
            match answer(&mut stream, &mut buffer).await? {
                202 => break,
                429 => tokio::time::sleep(std::time::Duration::from_millis(5)).await,
                other => return Err(format!("answered {other}")),
            }
        }
    }
    Ok(())
}

/// Reads one answer to its end; its status.
async fn answer(stream: &mut TcpStream, buffer: &mut [u8]) -> Result<u16, String> {
    let mut filled = 0;
    loop {
        let read = stream.read(&mut buffer[filled..]).await.map_err(|e| e.to_string())?;
        if read == 0 {
            return Err("the connection was closed".into());
        }
        filled += read;
        let text = String::from_utf8_lossy(&buffer[..filled]);
        let Some((head, body)) = text.split_once("\r\n\r\n") else { continue };
        let length = head.lines().find_map(|l| {
            let (name, value) = l.split_once(':')?;
            name.eq_ignore_ascii_case("content-length")
                .then(|| value.trim().parse::<usize>().ok())?
        });
        if body.len() >= length.unwrap_or(0) {
            return head
                .get(9..12)
                .and_then(|s| s.parse().ok())
                .ok_or_else(|| "no status".to_owned());
        }
    }
}
