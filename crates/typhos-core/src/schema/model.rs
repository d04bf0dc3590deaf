//! The declaration as values: what a schema file says once it is read.

use std::ops::Range;

use super::{Layout, Scalar, Type};
use crate::dates::{Pattern, ReadOptions};
use crate::readings::{Mark, NumberStyle};
use crate::text::InputChoice;

/// What happens to a value that does not fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Misfit {
    /// The run stops; nothing is loaded.
    #[default]
    Stop,
    /// The value becomes null, and is counted.
    Null,
    /// The whole record is set aside, word for word.
    Reject,
}

impl Misfit {
    /// All policies.
    pub const ALL: [Misfit; 3] = [Misfit::Stop, Misfit::Null, Misfit::Reject];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            Misfit::Stop => "stop",
            Misfit::Null => "null",
            Misfit::Reject => "reject",
        }
    }
}

/// What a value becomes that has more digits than its type keeps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Rounding {
    /// Nothing: it is a misfit.
    #[default]
    Exact,
    /// The nearest value; of two that are as near, the one whose last digit is even.
    HalfEven,
    /// The nearest value; of two that are as near, the one farther from zero.
    HalfUp,
    /// The value without the digits too many: nearer to zero, and earlier in time.
    Down,
}

impl Rounding {
    /// All of them.
    pub const ALL: [Rounding; 4] =
        [Rounding::Exact, Rounding::HalfEven, Rounding::HalfUp, Rounding::Down];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            Rounding::Exact => "exact",
            Rounding::HalfEven => "half-even",
            Rounding::HalfUp => "half-up",
            Rounding::Down => "down",
        }
    }

    /// Reads its spelling.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Rounding, String> {
        let found = Rounding::ALL.into_iter().find(|rounding| rounding.name() == word);
        found.ok_or_else(|| {
            let word = word.escape_debug();
            format!("'{word}' is not a rounding: use half-even, half-up, down or exact")
        })
    }
}

/// Where a column comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ColumnFrom {
    /// The header of the source column.
    Name(String),
    /// Its position, from 1.
    Position(usize),
    /// Several columns, two at least and each of them one of the above, whose values are joined.
    Several(Vec<ColumnFrom>),
}

/// Where a column comes from that is not in the input.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Generate {
    /// The number of the record in the input, counted as records are read. Those that are set aside
    /// count too, so that a record keeps its number when another one is mended.
    RowNumber {
        /// The number of the first record.
        start: i64,
    },
    /// The file that the record stands in, as it was given.
    File,
    /// The line of that file on which the record starts.
    Line,
    /// When the input was bound to the schema, the same for all records: when a load began.
    LoadedAt,
    /// Where each element of a list is a row: which one of its record it is.
    Position {
        /// The number of the first element.
        start: i64,
    },
}

impl Generate {
    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            Generate::RowNumber { .. } => "row-number",
            Generate::File => "file",
            Generate::Line => "line",
            Generate::LoadedAt => "loaded-at",
            Generate::Position { .. } => "position",
        }
    }

    /// Reads its word; numbers start at 1.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Generate, String> {
        let all = [
            Generate::RowNumber { start: 1 },
            Generate::File,
            Generate::Line,
            Generate::LoadedAt,
            Generate::Position { start: 1 },
        ];
        let found = all.into_iter().find(|generate| generate.name() == word);
        found.ok_or_else(|| {
            format!(
                "nothing generates '{}': use row-number, file, line, loaded-at or position",
                word.escape_debug()
            )
        })
    }
}

/// What becomes of a value that is joined of several fields, some of which are absent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum GlueAbsent {
    /// It does not fit.
    #[default]
    Misfit,
    /// It is absent.
    Null,
    /// It is joined of the others.
    Skip,
}

impl GlueAbsent {
    /// All of them.
    pub const ALL: [GlueAbsent; 3] = [GlueAbsent::Misfit, GlueAbsent::Null, GlueAbsent::Skip];

    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            GlueAbsent::Misfit => "misfit",
            GlueAbsent::Null => "null",
            GlueAbsent::Skip => "skip",
        }
    }

    /// Reads its word.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<GlueAbsent, String> {
        let found = GlueAbsent::ALL.into_iter().find(|policy| policy.name() == word);
        found.ok_or_else(|| format!("'{}' is none of skip, null and misfit", word.escape_debug()))
    }
}

/// How a column is searched in an index.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Search {
    /// By its whole value.
    Exact,
    /// By the words in it.
    Full,
    /// By both.
    Both,
    /// Not at all: it is kept and given back.
    None,
}

impl Search {
    /// All of them.
    pub const ALL: [Search; 4] = [Search::Exact, Search::Full, Search::Both, Search::None];

    /// Its word.
    pub fn name(self) -> &'static str {
        match self {
            Search::Exact => "exact",
            Search::Full => "full",
            Search::Both => "both",
            Search::None => "none",
        }
    }

    /// Reads its word.
    ///
    /// # Errors
    /// A sentence that says what there is.
    pub fn parse(word: &str) -> Result<Search, String> {
        let found = Search::ALL.into_iter().find(|search| search.name() == word);
        found.ok_or_else(|| {
            format!("'{}' is none of exact, full, both and none", word.escape_debug())
        })
    }
}

/// The declaration of one column.
#[derive(Debug, Clone)]
pub struct ColumnDecl {
    /// Its name in the target.
    pub name: String,
    /// What it holds; text as long as that is not decided.
    pub ty: Type,
    /// Whether the type is to be decided from the data at hand.
    pub auto: bool,
    /// Where it comes from, where that is not its own name.
    pub from: Option<ColumnFrom>,
    /// What stands between the values of several sources.
    pub glue: Option<String>,
    /// What becomes of such a value where some of them are absent.
    pub glue_absent: GlueAbsent,
    /// How values are made that do not come from the input.
    pub generate: Option<Generate>,
    /// Patterns of a date column, tried in order; never empty there.
    pub patterns: Vec<Pattern>,
    /// How patterns are read: what two-digit years mean, and times on a zone's clocks.
    pub dates: ReadOptions,
    /// The language of the names in patterns, where it is said.
    pub locale: Option<String>,
    /// How numbers are written.
    pub style: NumberStyle,
    /// The decimal mark as it was said, where the type is left to the data: it then says more than that
    /// numbers are written as usual.
    pub auto_mark: Option<Mark>,
    /// What a value becomes that has more digits than the type keeps.
    pub rounding: Rounding,
    /// Whether a text that is too long is cut.
    pub clip: bool,
    /// Whether absent is a misfit.
    pub required: bool,
    /// Texts that mean "no value" here, where they are not those of the input.
    pub absent: Option<Vec<String>>,
    /// What stands for what is absent, as written in the input.
    pub default: Option<String>,
    /// What happens to a value that does not fit.
    pub misfit: Misfit,
    /// The smallest value that fits, as written.
    pub low: Option<String>,
    /// The largest value that fits, as written.
    pub high: Option<String>,
    /// The closed set of a category.
    pub values: Vec<String>,
    /// Whether the order of `values` has a meaning.
    pub ranked: bool,
    /// How it is searched in an index, where that is said.
    pub search: Option<Search>,
    /// What a person says of the column, for whoever looks at it in a target.
    pub comment: Option<String>,
    /// What a draft says of a field of a struct, behind its line; it is not read back.
    pub evidence: Option<String>,
    /// Where the column stands in the schema file: its name, and its `from`.
    pub spans: ColumnSpans,
}

/// Where parts of a column's declaration stand in the schema file.
#[derive(Debug, Clone, Default)]
pub struct ColumnSpans {
    /// The name.
    pub name: Range<usize>,
    /// What `from` says, where it is there.
    pub from: Option<Range<usize>>,
    /// The keys and their values.
    pub keys: Range<usize>,
}

impl ColumnDecl {
    /// What its values are where nothing nests: see [`Type::scalar`].
    pub fn scalar(&self) -> Scalar {
        self.ty.scalar()
    }

    /// A column of a type, with nothing else said.
    pub fn new(name: impl Into<String>, ty: impl Into<Type>) -> ColumnDecl {
        ColumnDecl {
            name: name.into(),
            ty: ty.into(),
            auto: false,
            from: None,
            glue: None,
            glue_absent: GlueAbsent::Misfit,
            generate: None,
            patterns: Vec::new(),
            dates: ReadOptions::default(),
            locale: None,
            style: NumberStyle::default(),
            auto_mark: None,
            rounding: Rounding::Exact,
            clip: false,
            required: false,
            absent: None,
            default: None,
            misfit: Misfit::Stop,
            low: None,
            high: None,
            values: Vec::new(),
            ranked: false,
            search: None,
            comment: None,
            evidence: None,
            spans: ColumnSpans::default(),
        }
    }
}

/// What a schema says of its input.
#[derive(Debug, Clone, Default)]
pub struct InputDecl {
    /// How the input is laid out and read, as far as it is said.
    pub choice: InputChoice,
    /// Texts that mean "no value" in every column; the empty field, where nothing is said.
    pub absent: Option<Vec<String>>,
    /// What happens to a record that cannot be split into its columns, and to one whose row a table refuses: stop or reject.
    pub misfit: Misfit,
}

/// A declaration.
#[derive(Debug, Clone, Default)]
pub struct Schema {
    /// Name of the table in a target that has names.
    pub table: Option<String>,
    /// What is said of the input.
    pub input: InputDecl,
    /// The columns, in the order they are loaded.
    pub columns: Vec<ColumnDecl>,
    /// Columns that are there as a comment: somebody decided to leave them out.
    pub left_out: Vec<ColumnDecl>,
    /// How rows are laid out where they go.
    pub layout: Layout,
}

impl Schema {
    /// How the input is to be read: what is said of it. Where the delimiter is said, what quotes,
    /// escapes, comments and delimiters at the end of a record are is as usual unless said: a declaration
    /// is not to change its meaning with the data.
    pub fn input_choice(&self) -> InputChoice {
        self.input.choice.as_declared()
    }
}

/// Something wrong in a schema file, with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    /// Byte range in the source.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
}

impl Diagnostic {
    /// What is wrong at a place, with no advice.
    pub fn new(span: Range<usize>, message: impl Into<String>) -> Diagnostic {
        Diagnostic { span, message: message.into(), help: None }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Diagnostic {
        self.help = Some(help.into());
        self
    }

    /// Line and column of the place, both from 1.
    pub fn line_and_column(&self, source: &str) -> (usize, usize) {
        let before = &source[..self.span.start.min(source.len())];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
    }
}
