//! Rows of tables as facts of a capture.

use gullet_model::step::Facts;

/// Tables whose rows are facts of their own, at most, in all databases of a part.
pub(crate) const TABLES_NAMED: usize = 1000;

/// The rows of tables as facts: of each by its name, as long as they are not too many, and of all.
pub(crate) fn add_rows(counts: impl IntoIterator<Item = (String, i64)>, facts: &mut Facts) {
    let (mut rows, mut tables) = (0, 0);
    for (table, count) in counts {
        (rows, tables) = (rows + count, tables + 1);
        if tables <= TABLES_NAMED {
            facts.insert(format!("rows.{table}"), count.into());
        }
    }
    facts.insert("tables".to_owned(), tables.into());
    facts.insert("rows".to_owned(), rows.into());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_named_up_to_a_bound_and_all_are_counted() {
        let mut facts = Facts::new();
        add_rows((0..TABLES_NAMED + 5).map(|number| (format!("t{number:05}"), 2)), &mut facts);
        let named = facts.keys().filter(|fact| fact.starts_with("rows.")).count();
        assert_eq!((named, facts["tables"].as_u64()), (TABLES_NAMED, Some(TABLES_NAMED as u64 + 5)));
        assert_eq!(facts["rows"].as_u64(), Some(2 * (TABLES_NAMED as u64 + 5)));
    }
}
