//! Feeds: inspecting a file before it is used, and the rows in quarantine.

use crate::Service;
use crate::problem::{Path, Refusal};
use axum::Json;
use axum::extract::{Request, State};
use axum::response::IntoResponse;
use tide_api::{BadRow, FeedColumn, FeedInspectionView, Problem};

/// The largest file that is inspected, in octets.
const MAX_FILE: usize = 64 << 20;

fn bad(row: tide_connect::BadRow) -> BadRow {
    BadRow {
        line: row.line as i64,
        reason: row.reason,
        raw: row.raw,
        key: row.key,
    }
}

/// Inspects a file: its format, columns, first rows, and the rows that cannot be read. Stores
/// nothing.
#[utoipa::path(post, path = "/api/v1/feeds/inspect", tag = "feeds", request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 200, body = FeedInspectionView), (status = 422, body = Problem, content_type = "application/problem+json")))]
pub async fn inspect_feed(request: Request) -> Result<Json<FeedInspectionView>, Refusal> {
    let body = axum::body::to_bytes(request.into_body(), MAX_FILE)
        .await
        .map_err(|_| {
            Refusal::invalid(format!("the file is larger than {} MiB", MAX_FILE >> 20))
                .remedy("inspect its first part: `head -n 100000 FILE`")
        })?;
    let looked = tokio::task::spawn_blocking(move || {
        tide_connect::inspect(&mut std::io::Cursor::new(&body[..]), "the file")
    })
    .await;
    let look = looked
        .map_err(|error| Refusal::invalid(error.to_string()))?
        .map_err(tide_engine::EngineError::from)?;
    Ok(Json(FeedInspectionView {
        format: look.format,
        delimiter: look.delimiter,
        encoding: look.encoding,
        has_bom: look.marked,
        rows: look.rows,
        bad: look.bad_count,
        columns: look
            .columns
            .into_iter()
            .map(|c| FeedColumn {
                name: c.name,
                kind: c.kind,
                filled: c.filled,
                empty: c.empty,
                repeated: c.repeated,
                duplicates: c.duplicates,
                key: c.key,
            })
            .collect(),
        first: look.first,
        bad_rows: look.bad.into_iter().map(bad).collect(),
    }))
}

/// Lists the rows that the last read of a feed rejected.
#[utoipa::path(get, path = "/api/v1/systems/{name}/quarantine", tag = "feeds", params(("name" = String, Path)), responses((status = 200, body = Vec<BadRow>)))]
pub async fn list_quarantine(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<Json<Vec<BadRow>>, Refusal> {
    service.engine.store().find_system(&name).await?;
    let rows = service.engine.store().list_quarantine(&name).await?;
    Ok(Json(
        rows.into_iter()
            .map(|row| BadRow {
                line: row.line,
                reason: row.reason,
                raw: row.raw,
                key: row.key,
            })
            .collect(),
    ))
}

/// The same as CSV, for correction.
#[utoipa::path(get, path = "/api/v1/systems/{name}/quarantine.csv", tag = "feeds", params(("name" = String, Path)), responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn export_quarantine(
    State(service): State<Service>,
    Path(name): Path<String>,
) -> Result<impl IntoResponse, Refusal> {
    service.engine.store().find_system(&name).await?;
    let rows = service.engine.store().list_quarantine(&name).await?;
    let rows = rows.into_iter().map(|row| {
        vec![
            row.line.to_string(),
            row.reason,
            row.key.unwrap_or_default(),
            row.raw,
        ]
    });
    let rows = rows.collect::<Vec<_>>();
    Ok(crate::export::csv_download(
        &format!("{name}-set-aside.csv"),
        &["line", "reason", "key", "row"],
        futures::stream::iter([Ok(rows)]),
    ))
}
