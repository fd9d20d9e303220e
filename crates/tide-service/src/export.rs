//! Exports: files that are made while they are downloaded, a page of rows at a time.

use crate::problem::Refusal;
use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse as _, Response};
use futures::{Stream, StreamExt as _, TryStreamExt as _};
use std::future::Future;

/// Rows that are read at once.
pub(crate) const PAGE: i64 = 1_000;

/// The rows of a page, and where the next one begins; `None` after the last.
pub(crate) type ExportPage<P> = (Vec<Vec<String>>, Option<P>);

/// Reads page after page. `first` is where the first one begins.
pub(crate) fn pages<P, F>(
    first: P,
    read: impl Fn(P) -> F + Send + 'static,
) -> impl Stream<Item = Result<Vec<Vec<String>>, Refusal>> + Send + 'static
where
    P: Send + 'static,
    F: Future<Output = Result<ExportPage<P>, Refusal>> + Send + 'static,
{
    futures::stream::try_unfold((Some(first), read), |(next, read)| async move {
        let Some(position) = next else {
            return Ok(None);
        };
        let (rows, next) = read(position).await?;
        Ok(Some((rows, (next, read))))
    })
}

/// A CSV file to download (RFC 4180). A cell that a spreadsheet would run as a formula is escaped
/// as text. All cells are quoted, so that a reader that separates by semicolons or tabs does not
/// split them. A fault in the middle ends the connection, so that no one takes the file for whole.
pub(crate) fn csv_download(
    file: &str,
    header: &[&str],
    rows: impl Stream<Item = Result<Vec<Vec<String>>, Refusal>> + Send + 'static,
) -> Response {
    let header = header.iter().map(|cell| (*cell).to_owned()).collect();
    let first = futures::stream::iter([Ok(vec![header])]);
    let text = first
        .chain(rows)
        .map_ok(|rows| Bytes::from(csv_lines(rows)))
        .map_err(|refusal| std::io::Error::other(refusal.to_string()));
    let disposition = format!("attachment; filename=\"{file}\"");
    (
        [
            (header::CONTENT_TYPE, "text/csv; charset=utf-8".to_owned()),
            (header::CONTENT_DISPOSITION, disposition),
        ],
        Body::from_stream(text),
    )
        .into_response()
}

fn csv_lines(rows: Vec<Vec<String>>) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new()
        .quote_style(csv::QuoteStyle::Always)
        .from_writer(Vec::new());
    for row in rows {
        let safe = row.into_iter().map(|cell| {
            if cell.starts_with(['=', '+', '-', '@', '\t', '\r', '\n', ';']) {
                format!("'{cell}")
            } else {
                cell
            }
        });
        // Writing to memory cannot fail.
        let _ = writer.write_record(safe);
    }
    writer.into_inner().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::body::to_bytes;

    async fn body(response: Response) -> Result<String, axum::Error> {
        let bytes = to_bytes(response.into_body(), 1 << 20).await?;
        Ok(String::from_utf8(bytes.to_vec()).expect("UTF-8"))
    }

    #[tokio::test]
    async fn pages_follow_each_other_and_formulas_are_escaped() {
        let rows = pages(0, |number: usize| async move {
            let row = vec![format!("={number}"), "a \"b\"".to_owned()];
            Ok((vec![row], (number < 2).then_some(number + 1)))
        });
        let response = csv_download("people.csv", &["person", "note"], rows);
        let disposition = response.headers()[header::CONTENT_DISPOSITION].clone();
        assert_eq!(disposition, "attachment; filename=\"people.csv\"");
        let text = body(response).await.expect("whole");
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[0], "\"person\",\"note\"");
        assert_eq!(
            lines[1..],
            [0, 1, 2].map(|n| format!("\"'={n}\",\"a \"\"b\"\"\""))
        );
    }

    #[tokio::test]
    async fn a_fault_in_the_middle_does_not_look_like_the_end() {
        let rows = pages(0, |number: usize| async move {
            match number {
                0 => Ok((vec![vec!["Ada".to_owned()]], Some(1))),
                _ => Err(Refusal::invalid("the store failed")),
            }
        });
        let read = body(csv_download("people.csv", &["person"], rows)).await;
        assert!(read.is_err(), "{read:?}");
    }
}
