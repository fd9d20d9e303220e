//! The database: the writer task, errors, codes and restore.

pub(crate) mod codes;
pub(crate) mod error;
pub(crate) mod restore;
pub(crate) mod writer;

/// Splits rows into chunks whose sizes are powers of two, so that the statements for them are few and
/// stay prepared.
pub(crate) fn fixed_chunks<T>(mut rows: &[T], max: usize) -> impl Iterator<Item = &[T]> {
    std::iter::from_fn(move || {
        let size = max.min(1 << rows.len().checked_ilog2()?);
        let (some, rest) = rows.split_at(size);
        rows = rest;
        Some(some)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn chunks_contain_all_rows_in_order_in_few_sizes() {
        for count in [0, 1, 5, 7, 600] {
            let rows: Vec<usize> = (0..count).collect();
            let chunks: Vec<&[usize]> = fixed_chunks(&rows, 256).collect();
            assert_eq!(chunks.concat(), rows);
            let sizes = chunks.iter().map(|chunk| chunk.len());
            assert!(
                sizes
                    .into_iter()
                    .all(|size| size.is_power_of_two() && size <= 256)
            );
        }
    }
}
