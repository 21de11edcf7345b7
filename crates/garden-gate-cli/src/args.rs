//! What can be typed; what it means is computed in `setup` and the commands.

use crate::args_examples as examples;
use crate::completing;
use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use std::path::PathBuf;

/// Write and run SQL over tables and files, and check the rows and the plans.
#[derive(Debug, Parser)]
#[command(name = "garden-gate", version, max_term_width = 100)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run statements and print their rows
    #[command(after_help = examples::RUN)]
    Run(Run),
    /// Show the plan of a query
    #[command(after_help = examples::PLAN)]
    Plan(Plan),
    /// Show the rows of each step of a query: WITH, FROM, expressions, operands, rounds of a recursion
    #[command(after_help = examples::STEPS)]
    Steps(Steps),
    /// Run queries beside each other: same rows? same plan? which is cheaper
    #[command(after_help = examples::COMPARE)]
    Compare(Compare),
    /// Run a query for one value of a parameter after the other, and show where its plan changes
    #[command(after_help = examples::SWEEP)]
    Sweep(Sweep),
    /// Run check files, and report what does not hold; exit status 1 when something does not
    #[command(after_help = examples::CHECK)]
    Check(Check),
    /// Show the tables, or what is known of one
    #[command(after_help = examples::DESCRIBE)]
    Describe(Describe),
    /// Read a database file from end to end, and check its checksums and constraints
    #[command(after_help = examples::VERIFY)]
    Verify(Verify),
    /// Make a database file as small as what it holds allows
    #[command(after_help = examples::COMPACT)]
    Compact(Compact),
    /// Type statements and see their rows, with completions and marks under mistakes
    #[command(after_help = examples::SHELL)]
    Shell(Shell),
    /// Speak the Language Server Protocol with an editor, over standard input and output
    #[command(after_help = examples::LANGUAGE_SERVER)]
    LanguageServer(LanguageServer),
    /// Lay out SQL anew: the same statements and comments, lines of a width
    #[command(after_help = examples::FORMAT)]
    Format(FormatFiles),
    /// Print the completions of the command line for a command interpreter
    #[command(after_help = examples::COMPLETIONS)]
    Completions(Completions),
    /// Write the pages of the manual to a folder
    #[command(after_help = examples::MANUAL)]
    Manual(Manual),
    /// A guided example on the demo garden, the shell on it, or its data written to a folder
    #[command(after_help = examples::DEMO)]
    Demo(Demo),
}

/// What all commands that run SQL take.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Common {
    /// A file or folder whose data become tables, named after the files; a NAME before it is a file's table or a folder's schema, and
    /// options of a file stand after it: 'bed=beds.txt(FORMAT CSV, DELIMITER ;)'
    #[arg(long, value_name = "[NAME=]PATH[(OPTIONS)]")]
    pub(crate) data: Vec<String>,
    /// A value for the parameter :NAME, typed by where it is used; nothing after = is NULL, '' the empty text
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) param: Vec<String>,
    /// A setting; SHOW SETTINGS lists them
    #[arg(long, value_name = "NAME=VALUE", add = ArgValueCompleter::new(completing::settings))]
    pub(crate) set: Vec<String>,
    /// A database file, made when it is not there; without one, tables live as long as the command
    #[arg(long, value_name = "FILE")]
    pub(crate) db: Option<PathBuf>,
    /// How long to wait when another process has the database file open
    #[arg(long, value_name = "SECONDS", default_value_t = 0)]
    pub(crate) wait: u64,
    /// Read every versioned table as it was: a day, a timestamp, or COMMIT and a number. `compare` takes two or more for one query
    #[arg(long, value_name = "MOMENT")]
    pub(crate) as_of: Vec<String>,
    /// Change nothing: no rows, no tables, no files
    #[arg(long)]
    pub(crate) read_only: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Describe {
    /// A table or view, or SCHEMA.TABLE; all of them without it
    #[arg(add = ArgValueCompleter::new(completing::tables))]
    pub(crate) table: Option<String>,
    /// Text to read, or one JSON object a table
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) output: ReportFormat,
    #[command(flatten)]
    pub(crate) common: Common,
}

#[derive(Debug, Args)]
pub(crate) struct Verify {
    #[command(flatten)]
    pub(crate) common: Common,
}

#[derive(Debug, Args)]
pub(crate) struct Compact {
    #[command(flatten)]
    pub(crate) common: Common,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReportFormat {
    /// Text to read
    Table,
    /// JSON objects, one a line
    Json,
}

#[derive(Debug, Args)]
pub(crate) struct Run {
    /// Files of SQL; - is standard input
    pub(crate) files: Vec<PathBuf>,
    /// SQL text, run after the files
    #[arg(short = 'e', value_name = "SQL", allow_hyphen_values = true)]
    pub(crate) sql: Vec<String>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// How rows are written
    #[arg(long, value_enum)]
    pub(crate) output: Option<Format>,
    /// Write to this file; its ending tells the format unless --output does
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
    /// Go on after a statement that failed
    #[arg(long)]
    pub(crate) keep_going: bool,
}

#[derive(Debug, Args)]
pub(crate) struct Plan {
    /// A file of SQL; - is standard input. Its last statement is planned, those before it are run
    pub(crate) file: Option<PathBuf>,
    /// SQL text
    #[arg(short = 'e', value_name = "SQL", allow_hyphen_values = true)]
    pub(crate) sql: Option<String>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// Run it, and show what each step did beside what was expected
    #[arg(long)]
    pub(crate) measure: bool,
    /// Show the decisions with their candidates and costs
    #[arg(long)]
    pub(crate) considered: bool,
    /// Show what was rewritten, and why that is allowed
    #[arg(long)]
    pub(crate) rewrites: bool,
    /// How the plan is written; without it the ending of --to tells, and a tree is the default
    #[arg(long, value_enum)]
    pub(crate) output: Option<PlanFormat>,
    /// Write to this file
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct Steps {
    /// A file of SQL; - is standard input. Its last statement is taken apart, those before it are run
    pub(crate) file: Option<PathBuf>,
    /// SQL text
    #[arg(short = 'e', value_name = "SQL", allow_hyphen_values = true)]
    pub(crate) sql: Option<String>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// Also the rows before and after each WHERE, GROUP BY and HAVING
    #[arg(long)]
    pub(crate) clauses: bool,
    /// Only the step of this name
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Option<String>,
    /// How many rows of a step are shown
    #[arg(long, value_name = "COUNT", default_value_t = 10)]
    pub(crate) sample: usize,
    /// Text to read, or one JSON object a step
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) output: ReportFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Compare {
    /// Files of SQL; the last statement of each is compared, those before it are run
    pub(crate) files: Vec<PathBuf>,
    /// SQL text, compared with the files
    #[arg(short = 'e', value_name = "SQL", allow_hyphen_values = true)]
    pub(crate) sql: Vec<String>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// The order of the rows counts
    #[arg(long)]
    pub(crate) ordered: bool,
    /// Different plans are a failure too
    #[arg(long)]
    pub(crate) same_plan: bool,
    /// How often each query is timed
    #[arg(long, value_name = "COUNT", default_value_t = 5)]
    pub(crate) runs: usize,
    /// Text to read, or one JSON object
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) output: ReportFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Sweep {
    /// A file of SQL; - is standard input. Its last statement is swept, those before it are run
    pub(crate) file: Option<PathBuf>,
    /// SQL text
    #[arg(short = 'e', value_name = "SQL", allow_hyphen_values = true)]
    pub(crate) sql: Option<String>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// The parameter, with V1,V2,… or FROM..TO or FROM..TO:STEP (numbers, or days) or a query for its values
    #[arg(long, value_name = "NAME=VALUES", required = true)]
    pub(crate) over: Vec<String>,
    /// Also what each value would cost under the plan of each other
    #[arg(long)]
    pub(crate) fixed_plan: bool,
    /// Text to read, one JSON object a value, or a plot
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) output: SweepFormat,
    /// Write to this file
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct Check {
    /// Check files, or folders with files that end with .check.toml
    #[arg(required = true)]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) common: Common,
    /// Write the rows that were found into the checks that expect others, after showing the differences
    #[arg(long)]
    pub(crate) accept: bool,
    /// Also write the outcome as XML for a build server
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    /// Text to read, or one JSON object a check
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) output: ReportFormat,
}

#[derive(Debug, Args)]
pub(crate) struct Shell {
    #[command(flatten)]
    pub(crate) common: Common,
    /// Keep nothing of what is typed for the next time
    #[arg(long)]
    pub(crate) no_history: bool,
}

#[derive(Debug, Args)]
pub(crate) struct LanguageServer {
    #[command(flatten)]
    pub(crate) common: Common,
}

#[derive(Debug, Args)]
pub(crate) struct FormatFiles {
    /// Files of SQL; - or none is standard input, and the result goes to standard output
    pub(crate) files: Vec<PathBuf>,
    /// Characters of a line, where it can be broken
    #[arg(long, default_value_t = 100, value_parser = clap::value_parser!(u16).range(20..))]
    pub(crate) width: u16,
    /// The letters of keywords
    #[arg(long, value_enum, default_value_t = Letters::Upper)]
    pub(crate) keywords: Letters,
    /// Write each file anew, where it changes
    #[arg(long, requires = "files", conflicts_with = "check")]
    pub(crate) in_place: bool,
    /// Write nothing: name the files that would change; exit status 1 when there is one
    #[arg(long)]
    pub(crate) check: bool,
}

/// The letters of keywords.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Letters {
    Upper,
    Lower,
    Keep,
}

#[derive(Debug, Args)]
pub(crate) struct Manual {
    /// The folder, made when it is not there
    #[arg(long, value_name = "DIR")]
    pub(crate) to: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct Completions {
    /// The command interpreter
    #[arg(value_enum)]
    pub(crate) interpreter: clap_complete::Shell,
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// What to walk through
    #[arg(value_enum, default_value_t = Topic::Tour)]
    pub(crate) topic: Topic,
    /// How many times as large as the committed data
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(crate) scale: u32,
    /// Only write the data as CSV files to this folder
    #[arg(long, value_name = "DIR")]
    pub(crate) to: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Topic {
    /// Rows, NULL, joins, plans, and a mistake
    Tour,
    /// What is in a table
    Look,
    /// Values that are not known
    Nulls,
    /// Rows of two tables beside each other, and those that are lost
    Joins,
    /// A large query, part by part
    Steps,
    /// Hierarchies, loops, and a runaway
    Recursion,
    /// How a query is evaluated, and why so
    Plans,
    /// History of rows, periods, and questions about both
    Time,
    /// Files as tables, and loads with bad rows
    Files,
    /// Rows and plans that are to stay as they are
    Checks,
    /// No walk: the shell on the demo data
    Shell,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Aligned columns
    Table,
    /// Comma-separated values
    Csv,
    /// Tab-separated values
    Tsv,
    /// One JSON object a statement, one a line
    Json,
    /// One JSON object a row
    Jsonl,
    /// A Markdown table
    Markdown,
    /// Tables of a page
    Html,
    /// A Parquet file; needs --to
    Parquet,
    /// A file of Arrow batches; needs --to
    Arrow,
}

impl Format {
    /// The format that a file's ending tells.
    pub(crate) fn of_ending(path: &std::path::Path) -> Option<Self> {
        let ending = path.extension()?.to_str()?.to_lowercase();
        Some(match ending.as_str() {
            "csv" => Self::Csv,
            "tsv" => Self::Tsv,
            "json" => Self::Json,
            "jsonl" | "ndjson" => Self::Jsonl,
            "md" => Self::Markdown,
            "html" | "htm" => Self::Html,
            "parquet" => Self::Parquet,
            "arrow" | "ipc" => Self::Arrow,
            "txt" => Self::Table,
            _ => return None,
        })
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum SweepFormat {
    /// Text to read
    Table,
    /// JSON objects, one a line
    Json,
    /// A plot of rows and cost over the values
    Svg,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlanFormat {
    /// A tree with figures beside it
    Tree,
    /// One JSON object
    Json,
    /// A graph in the DOT language
    Dot,
    /// A drawing
    Svg,
    /// A page with the query, the drawing, rows, and what was considered and rewritten
    Html,
}

impl PlanFormat {
    /// The format that a file's ending tells.
    pub(crate) fn of_ending(path: &std::path::Path) -> Option<Self> {
        Some(match path.extension()?.to_str()?.to_lowercase().as_str() {
            "txt" => Self::Tree,
            "json" => Self::Json,
            "dot" | "gv" => Self::Dot,
            "svg" => Self::Svg,
            "html" | "htm" => Self::Html,
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn definitions_are_consistent() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn endings_tell_formats() {
        for (path, format) in [
            ("a.CSV", Some(Format::Csv)),
            ("b.ndjson", Some(Format::Jsonl)),
            ("c.md", Some(Format::Markdown)),
            ("d.parquet", Some(Format::Parquet)),
            ("e.html", Some(Format::Html)),
            ("d", None),
            ("e.doc", None),
        ] {
            assert_eq!(Format::of_ending(std::path::Path::new(path)), format, "{path}");
        }
    }
}
