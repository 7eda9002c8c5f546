//! Tables as spreadsheets write them: CSV (RFC 4180), in UTF-8 with or without a byte-order
//! mark. A table that was copied rather than saved has tabs between its fields, and one
//! that was saved where the comma is a decimal mark has semicolons.

use thiserror::Error;

use crate::name::plain::shown;
use crate::sheet::rendering::csv_field;

/// A table, as it was given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Table {
    /// Names of its columns, from its first line.
    pub columns: Vec<String>,
    /// Its rows; lines with nothing on them are none.
    pub rows: Vec<TableRow>,
}

/// One row of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableRow {
    /// The line on which it begins, counted from 1.
    pub line: usize,
    /// Its fields, without spaces around them.
    pub fields: Vec<String>,
}

/// Why a table cannot be read at all.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum TableError {
    /// It is no UTF-8.
    #[error("Line {line} is no UTF-8 text. Save the table as CSV in UTF-8, and give it again.")]
    NotText {
        /// The first line that is none.
        line: usize,
    },
    /// There is nothing in it.
    #[error(
        "The table is empty. Its first line names the columns, such as host,site; each further one is a domain."
    )]
    Empty,
    /// A column that is needed is not there.
    #[error("The first line names no column {missing}; it names {}. Write the names of the columns there, such as host,site.", .named.join(", "))]
    NoColumn {
        /// The column.
        missing: &'static str,
        /// Those that there are, cut for showing.
        named: Vec<String>,
    },
    /// A column is there twice.
    #[error("The first line names the column {0} twice. Take one of them out.")]
    TwiceNamed(String),
    /// It has more rows than are read.
    #[error("The table has more than {most} rows, the most that is taken at once. Give it in parts.")]
    TooManyRows {
        /// The most that is read.
        most: usize,
    },
}

impl TableError {
    /// The line at fault, counted from 1.
    pub fn line(&self) -> usize {
        match self {
            Self::NotText { line } => *line,
            Self::Empty | Self::NoColumn { .. } | Self::TwiceNamed(_) => 1,
            Self::TooManyRows { most } => most + 2,
        }
    }
}

impl Table {
    /// Reads a table of at most `most` rows.
    ///
    /// # Errors
    /// If it is no text, has no first line, or has more rows.
    pub fn read(octets: &[u8], most: usize) -> Result<Self, TableError> {
        let octets = octets.strip_prefix(b"\xef\xbb\xbf").unwrap_or(octets);
        let text = std::str::from_utf8(octets).map_err(|error| TableError::NotText {
            line: 1 + octets[..error.valid_up_to()].iter().filter(|octet| **octet == b'\n').count(),
        })?;

        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .trim(csv::Trim::All)
            .delimiter(delimiter(text))
            .from_reader(text.as_bytes());
        let mut rows = Vec::new();
        let mut lines = Lines { text: text.as_bytes(), at: 0, line: 1 };

        // Text is text to the end, so there is no error left to come.
        for record in reader.records().map_while(Result::ok) {
            let line = lines.of(record.position().map_or(0, csv::Position::byte));
            let fields: Vec<_> = record.iter().map(str::to_owned).collect();
            if fields.iter().all(String::is_empty) {
                continue;
            }
            if rows.len() > most {
                return Err(TableError::TooManyRows { most });
            }
            rows.push(TableRow { line, fields });
        }

        if rows.is_empty() {
            return Err(TableError::Empty);
        }
        let columns = rows.remove(0).fields;
        Ok(Self { columns, rows })
    }

    /// The same table as CSV, with more columns behind its own. What a spreadsheet would run
    /// as a formula is kept from it.
    pub fn with_columns<const N: usize>(
        &self,
        names: [&str; N],
        cells: impl Fn(usize) -> [String; N],
    ) -> String {
        let mut text = String::new();
        line(&mut text, self.columns.iter().map(String::as_str), &names.map(str::to_owned));
        for (place, row) in self.rows.iter().enumerate() {
            // A row that has fewer fields has empty ones.
            let fields = row.fields.iter().map(String::as_str).chain(std::iter::repeat(""));
            line(&mut text, fields.take(self.columns.len().max(row.fields.len())), &cells(place));
        }
        text
    }

    /// Where a column stands, by any of its names.
    ///
    /// # Errors
    /// If it is there twice.
    pub fn column(&self, names: &[&str]) -> Result<Option<usize>, TableError> {
        let is_named = |column: &String| names.iter().any(|name| column.eq_ignore_ascii_case(name));
        let mut places = self.columns.iter().enumerate().filter(|(_, column)| is_named(column));

        let first = places.next().map(|(place, _)| place);
        match places.next() {
            Some((_, again)) => Err(TableError::TwiceNamed(shown(again))),
            None => Ok(first),
        }
    }
}

/// Counts the lines of a text as its rows are come to.
struct Lines<'a> {
    text: &'a [u8],
    at: usize,
    line: usize,
}

impl Lines<'_> {
    /// The line on which the row that begins at an octet has its first letter: the end of
    /// the line before, and empty lines, are taken to it.
    fn of(&mut self, octet: u64) -> usize {
        let begin = usize::try_from(octet).unwrap_or(usize::MAX).min(self.text.len());
        let blank = self.text[begin..].iter().take_while(|octet| matches!(octet, b'\r' | b'\n')).count();
        let first = begin + blank;

        self.line += self.text[self.at..first].iter().filter(|octet| **octet == b'\n').count();
        self.at = first;
        self.line
    }
}

fn line<'a>(text: &mut String, fields: impl Iterator<Item = &'a str>, more: &[String]) {
    let mut fields: Vec<_> = fields.map(csv_field).collect();
    fields.extend(more.iter().map(|cell| csv_field(cell)));
    text.push_str(&fields.join(","));
    text.push_str("\r\n");
}

/// What stands between the fields of the first line.
fn delimiter(text: &str) -> u8 {
    let first = text.lines().find(|line| !line.trim().is_empty()).unwrap_or_default();
    let count = |mark: char| first.matches(mark).count();
    let marks = [(count(','), b','), (count(';'), b';'), (count('\t'), b'\t')];

    // The comma where there is nothing else: the last of the greatest wins.
    marks.into_iter().rev().max_by_key(|(count, _)| *count).map_or(b',', |(_, mark)| mark)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(text: &[u8]) -> Vec<(usize, Vec<String>)> {
        let table = Table::read(text, 10).expect("a table");
        table.rows.into_iter().map(|row| (row.line, row.fields)).collect()
    }

    #[test]
    fn a_table_is_read_however_it_was_saved_or_copied() {
        let want = vec![(2, vec!["onswick.example".to_owned(), "onswick".to_owned()])];
        for text in [
            "host,site\nonswick.example,onswick\n",
            "host,site\r\nonswick.example,onswick",
            "\u{feff}host,site\r\n\"onswick.example\",\"onswick\"\r\n",
            "host;site\nonswick.example;onswick\n",
            "host\tsite\nonswick.example\tonswick\n",
            "host , site\n onswick.example , onswick \n\n,\n",
        ] {
            assert_eq!(rows(text.as_bytes()), want, "{text:?}");
        }
    }

    #[test]
    fn quoted_fields_keep_marks_and_lines_and_rows_know_where_they_begin() {
        let text = b"host,note\nonswick.example,\"a, \"\"b\"\"\nand c\"\n\nnorsk.example,\n";
        let read = rows(text);
        assert_eq!(read[0], (2, vec!["onswick.example".into(), "a, \"b\"\nand c".into()]));
        assert_eq!(read[1], (5, vec!["norsk.example".into(), String::new()]));
    }

    #[test]
    fn what_is_no_table_is_told_with_its_line() {
        let cases: [(&[u8], TableError, usize); 3] = [
            (b"host,site\na,b\n\xff,c", TableError::NotText { line: 3 }, 3),
            (b"\xef\xbb\xbf\n \n", TableError::Empty, 1),
            (b"host\na\nb\nc\n", TableError::TooManyRows { most: 2 }, 4),
        ];
        for (text, want, line) in cases {
            let error = Table::read(text, 2).expect_err("no table");
            assert_eq!((&error, error.line()), (&want, line));
        }
    }

    #[test]
    fn a_table_is_written_as_it_was_with_what_became_of_it_and_runs_nothing() {
        let table = Table::read(b"host,note\na.example,\" =1+1\"\nb.example\n", 10).expect("a table");
        let text = table.with_columns(["result"], |place| [format!("r{place}")]);
        assert_eq!(text, "host,note,result\r\na.example,'=1+1,r0\r\nb.example,,r1\r\n");
    }

    #[test]
    fn a_column_is_found_by_any_of_its_names_once() {
        let table = Table::read(b"Domain,site,SITE\na,b,c", 10).expect("a table");
        assert_eq!(table.column(&["host", "domain"]), Ok(Some(0)));
        assert_eq!(table.column(&["account"]), Ok(None));
        assert_eq!(table.column(&["site"]), Err(TableError::TwiceNamed("SITE".into())));
    }
}
