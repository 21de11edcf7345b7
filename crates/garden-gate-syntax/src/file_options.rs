//! What appears in parentheses after the path of a file.

use super::ast::FileOptions;
use super::keyword::Keyword as K;
use super::lexer::Symbol;
use super::parser::Parser;
use crate::catalog::{ErrorFile, FileFormat, LoadOptions, RowEnd};
use crate::diagnostic::Result;

const OPTIONS: &str = "a file option: FORMAT, DELIMITER, QUOTE, ROW END, NO HEADER, COLUMNS, SKIP, NULL TEXT, ENCODING, DECIMAL MARK, \
     DATE FORMAT, TIME FORMAT, TIMESTAMP FORMAT; to load also BATCH, ERROR LIMIT, ERRORS INTO, CHECKS";

impl Parser<'_> {
    /// The options of a file that is only read.
    pub(super) fn file_options(&mut self) -> Result<FileOptions> {
        let start = self.span();
        let options = self.load_options()?;
        if options.load != LoadOptions::default() {
            let what = "BATCH, ERROR LIMIT, ERRORS INTO and CHECKS belong to INSERT INTO … FROM FILE";
            return Err(self.expected(what).at(start.to(self.last_span())));
        }
        Ok(options)
    }

    /// The options of a file whose rows are put into a table.
    pub(super) fn load_options(&mut self) -> Result<FileOptions> {
        let mut options = FileOptions::default();
        if !self.at_symbol(Symbol::LeftParen) {
            return Ok(options);
        }
        let open = self.advance().span;
        self.list(|parser| parser.file_option(&mut options))?;
        self.close(open)?;
        Ok(options)
    }

    /// The options of a file that is written, and whether it may take the place of one that is there.
    pub(super) fn export_options(&mut self) -> Result<(FileOptions, bool)> {
        let mut options = FileOptions::default();
        let mut replace = false;
        if self.at_symbol(Symbol::LeftParen) {
            let open = self.advance().span;
            self.list(|parser| {
                if parser.accept_word(K::Replace) {
                    replace = true;
                    return Ok(());
                }
                let writes = parser.at_any(&[K::Delimiter, K::Quote])
                    || [K::Row, K::No, K::Null].iter().any(|word| parser.at_word(*word));
                if writes {
                    return parser.file_option(&mut options);
                }
                Err(parser.expected("REPLACE, DELIMITER, QUOTE, ROW END, NO HEADER or NULL TEXT"))
            })?;
            self.close(open)?;
        }
        Ok((options, replace))
    }

    fn file_option(&mut self, options: &mut FileOptions) -> Result<()> {
        if self.accept_word(K::Format) {
            options.format = Some(self.file_format()?);
        } else if self.accept_word(K::Delimiter) {
            options.delimiter = Some(self.character("as the delimiter")?);
        } else if self.accept_word(K::Quote) {
            options.quote = Some(self.character("as the quote")?);
        } else if self.accept_words(&[K::Row, K::End]) {
            options.row_end = self.row_end()?;
        } else if self.accept_words(&[K::No, K::Header]) {
            options.no_header = true;
        } else if self.at_word(K::Columns) {
            self.advance();
            let names = self.names_in_parentheses("a name for a column of the file")?;
            options.columns = Some(names.into_iter().map(|name| name.text).collect());
        } else if self.accept_word(K::Skip) {
            options.skip = self.number_of("a number of lines")?;
        } else if self.accept_words(&[K::Null, K::Text]) {
            options.null_text = Some(self.text_literal("text in single quotes")?);
        } else if self.accept_word(K::Encoding) {
            options.encoding = Some(self.text_literal("the name of an encoding in single quotes")?);
        } else if self.accept_words(&[K::Decimal, K::Mark]) {
            options.decimal_mark = Some(self.character("as the decimal mark")?);
        } else if self.accept_words(&[K::Date, K::Format]) {
            options.date_format = Some(self.text_literal("a template such as 'DD.MM.YYYY'")?);
        } else if self.accept_words(&[K::Time, K::Format]) {
            options.time_format = Some(self.text_literal("a template such as 'HH24:MI'")?);
        } else if self.accept_words(&[K::Timestamp, K::Format]) {
            options.timestamp_format = Some(self.text_literal("a template such as 'DD.MM.YYYY HH24:MI:SS'")?);
        } else {
            return self.load_option(&mut options.load);
        }
        Ok(())
    }

    fn load_option(&mut self, load: &mut LoadOptions) -> Result<()> {
        if self.accept_word(K::Batch) {
            let rows = self.number_of("a number of rows")?;
            load.batch = Some(rows.max(1));
        } else if self.accept_words(&[K::Error, K::Limit]) {
            load.error_limit = self.number_of("a number of bad rows")?;
        } else if self.accept_words(&[K::Errors, K::Into]) {
            let path = self.text_literal("the path of a file")?;
            load.errors_into = Some(ErrorFile { path, replace: self.accept_word(K::Replace) });
        } else if self.accept_words(&[K::Checks, K::Off]) {
            load.unchecked = true;
        } else if self.accept_words(&[K::Checks, K::On]) {
            load.unchecked = false;
        } else {
            return Err(self.expected(OPTIONS));
        }
        Ok(())
    }

    fn file_format(&mut self) -> Result<FileFormat> {
        if self.accept_words(&[K::Json, K::Lines]) {
            return Ok(FileFormat::JsonLines);
        }
        let formats = [
            (K::Csv, FileFormat::Csv),
            (K::Tsv, FileFormat::Tsv),
            (K::Json, FileFormat::Json),
            (K::Jsonl, FileFormat::JsonLines),
            (K::Ndjson, FileFormat::JsonLines),
            (K::Parquet, FileFormat::Parquet),
            (K::Arrow, FileFormat::Arrow),
        ];
        match formats.into_iter().find(|(word, _)| self.at_word(*word)) {
            Some((_, format)) => {
                self.advance();
                Ok(format)
            }
            None => Err(self.expected("CSV, TSV, JSON, JSON LINES, PARQUET or ARROW")),
        }
    }

    fn row_end(&mut self) -> Result<RowEnd> {
        for (word, end) in [(K::Lf, RowEnd::Lf), (K::Crlf, RowEnd::CrLf), (K::Cr, RowEnd::Cr)] {
            if self.accept_word(word) {
                return Ok(end);
            }
        }
        Err(self.expected("LF, CRLF or CR"))
    }

    fn number_of(&mut self, what: &str) -> Result<u64> {
        let token = self.current();
        let count = self.raw(token).parse().map_err(|_| self.expected(what))?;
        self.advance();
        Ok(count)
    }

    /// One ASCII character in single quotes; `'\t'` is a tab.
    fn character(&mut self, role: &str) -> Result<char> {
        let text = self.text_literal("a character in single quotes")?;
        let text = if text == "\\t" { "\t".to_owned() } else { text };
        let mut characters = text.chars();
        match (characters.next(), characters.next()) {
            (Some(one), None) if one.is_ascii() && !matches!(one, '\n' | '\r') => Ok(one),
            _ => Err(self.expected(&format!("one ASCII character {role}"))),
        }
    }
}
