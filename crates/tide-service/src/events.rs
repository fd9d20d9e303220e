//! Live events over SSE. A stream ends with the session or the token that opened it.

use crate::Service;
use crate::access::Caller;
use axum::Extension;
use axum::extract::State;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures::Stream;
use std::convert::Infallible;
use std::time::Duration;
use tokio::sync::broadcast::error::RecvError;

/// How often the session or the token is validated.
const LOOK: Duration = Duration::from_secs(2);

/// Streams events from now on: changes of systems, reads, progress of runs.
#[utoipa::path(get, path = "/api/v1/events", tag = "events", responses((status = 200, description = "Server-sent events", content_type = "text/event-stream", body = String)))]
pub async fn stream_events(
    State(service): State<Service>,
    Extension(caller): Extension<Caller>,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let events = service.engine.events();
    let state = (service, caller, events, tokio::time::interval(LOOK));
    let stream = futures::stream::unfold(
        state,
        |(service, caller, mut events, mut look)| async move {
            loop {
                tokio::select! {
                    event = events.recv() => match event {
                        Ok(event) => {
                            let data = serde_json::to_string(&event).unwrap_or_default();
                            return Some((Ok(Event::default().data(data)), (service, caller, events, look)));
                        }
                        // A slow reader missed events: it must reload.
                        Err(RecvError::Lagged(_)) => return Some((Ok(Event::default().data("{\"event\":\"missed\"}")), (service, caller, events, look))),
                        Err(RecvError::Closed) => return None,
                    },
                    _ = look.tick() => {
                        if !caller.lasts(&service).await {
                            return None;
                        }
                    }
                }
            }
        },
    );
    Sse::new(stream).keep_alive(KeepAlive::default())
}
