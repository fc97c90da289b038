//! The command `test-engine`: a small search engine on loopback.

use std::collections::HashMap;
use std::net::SocketAddr;

use atlas_io::test_engine::{Mood, Received, TestEngine, TestEngineSettings};
use serde_json::json;

use crate::args;
use crate::exit::{Exit, Failure};
use crate::screen::STRONG;
use crate::session::Session;

pub fn run(arguments: &args::TestEngineArguments, session: &Session) -> Result<Exit, Failure> {
    let screen = &session.screen;
    if !arguments.listen.ip().is_loopback() {
        return Err(Failure::said(format!(
            "{} is not on loopback; the test engine listens on this machine alone",
            arguments.listen
        )));
    }
    let mood = Mood::parse(&arguments.answer).map_err(|error| Failure::said(error.to_string()))?;
    let reach = arguments.reach.iter().map(|text| reach(text)).collect::<Result<HashMap<_, _>, _>>()?;
    let tell = if screen.wants_json() { tell_aside } else { tell };
    let settings = TestEngineSettings {
        listen: arguments.listen.to_string(),
        reach,
        mood,
        tell: Some(tell),
        access_log: arguments.access_log.clone(),
    };
    let engine = TestEngine::start(settings).map_err(|error| {
        Failure::said(format!("cannot listen on {}: {error}; choose another with --listen", arguments.listen))
    })?;
    // It ends by being stopped, as soon as it has said that it listens.
    session.stop.heed();
    let endpoint = engine.endpoint();
    let document = json!({ "endpoint": endpoint, "port": engine.port() });
    screen.show(&document, || {
        format!(
            "The test engine listens. In idle-atlas.toml:\n\n  {STRONG}endpoint = \"{endpoint}\"{STRONG:#}\n\nWhat it receives is printed here; stop it with Ctrl-C.\n\n"
        )
    })?;
    engine.wait(&session.stop);
    Ok(Exit::Done)
}

fn reach(text: &str) -> Result<(String, SocketAddr), Failure> {
    let expected = || {
        Failure::said(format!("--reach “{text}”: expected HOST=ADDRESS, such as www.marrowvale.example=127.0.0.1:8080"))
    };
    let (host, address) = text.split_once('=').ok_or_else(expected)?;
    let address: SocketAddr = address.parse().map_err(|_| expected())?;
    if !address.ip().is_loopback() {
        return Err(Failure::said(format!("--reach “{text}”: only addresses on loopback can be reached")));
    }
    Ok((host.to_owned(), address))
}

fn tell(received: &Received) {
    println!("{}", words(received));
}

/// Reports a message on standard error, because standard output is one document.
fn tell_aside(received: &Received) {
    eprintln!("{}", words(received));
}

fn words(received: &Received) -> String {
    let count = received.urls.len();
    let first = received.urls.first().map_or("", String::as_str);
    let more = if count > 1 { format!(" and {} more", count - 1) } else { String::new() };
    format!("{}  {}  {first}{more}", received.status, received.why)
}
