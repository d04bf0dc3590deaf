//! What is to be counted and measured, by what: read and typed.

use std::sync::Arc;

use arrow_schema::{DataType, Schema as ArrowSchema, SchemaRef};

use crate::columns::arrow_fields;
use crate::columns::whole::is_whole;
use crate::readings::parse_number;
use crate::schema::{ColumnDecl, IntType, MAX_PRECISION, Scalar, Schema};
use crate::terms::{Phrase, PhraseError, Spoken, Term, Token, Word};

/// By what rows are grouped, and what is shown of each group.
#[derive(Debug, Clone)]
pub struct TallySpec {
    by: Vec<Term>,
    show: Vec<Measure>,
    /// Terms whose values are wanted themselves, each once.
    valued: Vec<Term>,
    columns: Vec<usize>,
    results: Vec<ColumnDecl>,
}

/// What is worked out of the values of a group.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Measured {
    /// Rows, or values that are there.
    Count,
    /// Rows of all rows, or of the sum of all.
    Share,
    /// The sum.
    Sum,
    /// The sum by the count.
    Mean,
    /// The least value.
    Min,
    /// The greatest.
    Max,
    /// The value that so great a part of the values is below.
    Quantile(f64),
    /// Distinct values.
    Distinct,
}

/// A measure of a term; of rows, where there is none.
#[derive(Debug, Clone)]
pub(super) struct Measure {
    pub what: Measured,
    term: Option<Term>,
    /// Which of the [valued](TallySpec::valued) terms is its own.
    pub valued: Option<usize>,
    /// What it is called, and its type.
    pub result: ColumnDecl,
}

impl Measure {
    pub fn term(&self) -> Option<&Term> {
        self.term.as_ref()
    }
}

/// The functions of values.
const FUNCTIONS: [&str; 9] =
    ["count", "sum", "mean", "min", "max", "median", "quantile", "distinct", "share"];

impl TallySpec {
    /// Reads by what rows are grouped (terms, with commas between; nothing for one group of all) and what is shown of each
    /// group, of rows of `schema` that are held as `arrow` says.
    ///
    /// # Errors
    /// Which of the two texts is not understood, or means something that a column has not, and why.
    pub fn parse(
        by: &str,
        show: &str,
        schema: &Schema,
        arrow: &ArrowSchema,
    ) -> Result<TallySpec, (Said, PhraseError)> {
        let reading = Reading { schema, arrow };
        let by = reading.by(by).map_err(|error| (Said::By, error))?;
        let show = reading.show(show).map_err(|error| (Said::Show, error))?;
        let mut spec = TallySpec {
            results: by.iter().map(group_column).collect(),
            by,
            show: Vec::new(),
            valued: Vec::new(),
            columns: Vec::new(),
        };
        for (word, mut measure) in show {
            if spec.results.iter().any(|known| known.name == measure.result.name) {
                let message = format!("'{}' stands there twice", measure.result.name);
                return Err((Said::Show, word.wrong(message)));
            }
            spec.results.push(measure.result.clone());
            if matches!(measure.what, Measured::Quantile(_) | Measured::Distinct) {
                let term = measure.term.as_ref().expect("of a term");
                let known = |other: &Term| other.result.name == term.result.name;
                measure.valued = spec.valued.iter().position(known).or_else(|| {
                    spec.valued.push(term.clone());
                    Some(spec.valued.len() - 1)
                });
            }
            spec.show.push(measure);
        }
        spec.place();
        Ok(spec)
    }

    /// Finds the columns that are needed, and has all terms stand in them.
    fn place(&mut self) {
        let shown = self.show.iter().filter_map(|measure| measure.term.as_ref());
        let mut columns: Vec<usize> = self.by.iter().chain(shown).map(|term| term.column).collect();
        columns.sort_unstable();
        columns.dedup();
        let placed =
            |term: &mut Term| *term = term.at(columns.partition_point(|it| *it < term.column));
        self.by.iter_mut().for_each(placed);
        self.show.iter_mut().filter_map(|measure| measure.term.as_mut()).for_each(placed);
        self.valued.iter_mut().for_each(placed);
        self.columns = columns;
    }

    /// The columns that are needed of the rows, by their places, in their order.
    pub fn columns(&self) -> &[usize] {
        &self.columns
    }

    /// The columns of the groups: what they are grouped by, and what is shown of them.
    pub fn results(&self) -> &[ColumnDecl] {
        &self.results
    }

    /// How many of them are what rows are grouped by.
    pub fn group_columns(&self) -> usize {
        self.by.len()
    }

    /// What each of the others measures.
    pub fn measured(&self) -> impl Iterator<Item = Measured> {
        self.show.iter().map(|measure| measure.what)
    }

    /// How the groups are held.
    pub fn arrow(&self) -> SchemaRef {
        Arc::new(ArrowSchema::new(arrow_fields(&self.results)))
    }

    pub(super) fn by(&self) -> &[Term] {
        &self.by
    }

    pub(super) fn show(&self) -> &[Measure] {
        &self.show
    }

    pub(super) fn valued(&self) -> &[Term] {
        &self.valued
    }
}

/// Which text an error is in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Said {
    /// By what rows are grouped.
    By,
    /// What is shown.
    Show,
}

/// What a column of groups is: the same, or what holds it where it is no dictionary any more.
fn group_column(term: &Term) -> ColumnDecl {
    let scalar = term.result.scalar();
    let mut column = ColumnDecl::new(&term.result.name, scalar);
    match scalar {
        Scalar::Category if term.result.ranked => {
            column.values.clone_from(&term.result.values);
            column.ranked = true;
        }
        Scalar::Category | Scalar::Lowcard => column.ty = Scalar::Text { most: None }.into(),
        Scalar::Float32 => column.ty = Scalar::Float64.into(),
        _ => {}
    }
    column
}

struct Reading<'r> {
    schema: &'r Schema,
    arrow: &'r ArrowSchema,
}

impl Reading<'_> {
    fn by(&self, text: &str) -> Result<Vec<Term>, PhraseError> {
        let mut phrase = Phrase::of(text)?;
        let mut terms: Vec<Term> = Vec::new();
        while !phrase.is_over() {
            if !terms.is_empty() {
                phrase.needs_mark(",")?;
            }
            let spoken = phrase.spoken()?;
            let mut term = self.term(&spoken)?;
            if let Some(name) = name_behind(&mut phrase)? {
                term.result.name = name;
            }
            if terms.iter().any(|known| known.result.name == term.result.name) {
                return Err(spoken.word().wrong(format!("'{}' stands there twice", spoken.name())));
            }
            terms.push(term);
        }
        Ok(terms)
    }

    /// A term of values that can be compared.
    fn term(&self, spoken: &Spoken) -> Result<Term, PhraseError> {
        let data_type = |column: usize| self.arrow.field(column).data_type();
        let term = Term::of(spoken, self.schema, data_type)?;
        if term.result.ty.is_nested() || term.result.scalar() == Scalar::Geopoint {
            let message = format!(
                "'{}' is of type {}, which cannot be grouped or measured",
                spoken.name(),
                term.result.ty
            );
            return Err(spoken.word().wrong(message));
        }
        Ok(term)
    }

    fn show(&self, text: &str) -> Result<Vec<(Word, Measure)>, PhraseError> {
        let mut phrase = Phrase::of(text)?;
        let mut measures = Vec::new();
        loop {
            let spoken = phrase.spoken()?;
            let word = spoken.word().clone();
            let mut measure = self.measure(&spoken)?;
            if let Some(name) = name_behind(&mut phrase)? {
                measure.result.name = name;
            }
            measures.push((word, measure));
            if phrase.is_over() {
                return Ok(measures);
            }
            phrase.needs_mark(",")?;
        }
    }

    fn measure(&self, spoken: &Spoken) -> Result<Measure, PhraseError> {
        let name = spoken.name();
        let (function, of, with) = match spoken {
            Spoken::Column(word) => (word, None, None),
            Spoken::Call { function, of, with } => (function, of.as_deref(), with.as_ref()),
        };
        let what = match (&function.text.to_ascii_lowercase()[..], of) {
            ("count", _) => Measured::Count,
            ("share", _) => Measured::Share,
            ("sum", Some(_)) => Measured::Sum,
            ("mean", Some(_)) => Measured::Mean,
            ("min", Some(_)) => Measured::Min,
            ("max", Some(_)) => Measured::Max,
            ("median", Some(_)) => Measured::Quantile(0.5),
            ("distinct", Some(_)) => Measured::Distinct,
            ("quantile", Some(_)) => {
                let part = with.and_then(|with| {
                    parse_number(with.text.as_bytes())?;
                    with.text.parse().ok().filter(|part| (0.0..=1.0).contains(part))
                });
                let place = with.unwrap_or(function);
                let missing =
                    "which one? A number from 0 to 1 belongs behind a comma: quantile(fare, 0.9)";
                Measured::Quantile(part.ok_or_else(|| place.wrong(missing))?)
            }
            (known, None) if FUNCTIONS.contains(&known) => {
                return Err(function.wrong(format!("'{known}' of which column? {known}(COLUMN)")));
            }
            (other, _) => {
                let near = crate::nearest(other, FUNCTIONS);
                let message = match (near, spoken) {
                    (Some(near), _) => {
                        format!("'{other}' is not a measure; did you mean '{near}'?")
                    }
                    (None, Spoken::Column(_)) => format!(
                        "'{}' is a column or nothing; what of it? Such as max({})",
                        function.text, function.text
                    ),
                    (None, _) => {
                        format!("'{other}' is not a measure; there are {}", FUNCTIONS.join(", "))
                    }
                };
                return Err(function.wrong(message));
            }
        };
        if let Some(with) = with
            .filter(|_| !matches!(what, Measured::Quantile(_)) || &function.text[..] == "median")
        {
            return Err(with.wrong(format!("'{}' is of a column alone", function.text)));
        }
        let term = of.map(|of| self.term(of)).transpose()?;
        let scalar = match &term {
            None if what == Measured::Count => Scalar::Int(IntType::UInt64),
            None => Scalar::Float64,
            Some(term) => measured_type(what, term).ok_or_else(|| {
                let Term { result, .. } = term;
                let word = of.map_or(function, Spoken::word);
                let (function, name, ty) = (&function.text, &result.name, &result.ty);
                word.wrong(format!("{function} is of numbers, and '{name}' is of type {ty}"))
            })?,
        };
        let mut result = ColumnDecl::new(name, scalar);
        if let Some(term) = &term
            && scalar == Scalar::Category
        {
            result = ColumnDecl { name: result.name, ..group_column(term) };
        }
        Ok(Measure { what, term, valued: None, result })
    }
}

/// What something is to be called, where that is said.
fn name_behind(phrase: &mut Phrase) -> Result<Option<String>, PhraseError> {
    if !phrase.takes("as") {
        return Ok(None);
    }
    match phrase.next() {
        (Token::Bare(name) | Token::Name(name), _) => Ok(Some(name)),
        (_, span) => Err(PhraseError { span, message: "a name is missing behind 'as'".into() }),
    }
}

/// The type of a measure of a term; `None` where it has none.
fn measured_type(what: Measured, term: &Term) -> Option<Scalar> {
    let scalar = term.result.scalar();
    let same = match scalar {
        Scalar::Category if term.result.ranked => Scalar::Category,
        Scalar::Category | Scalar::Lowcard => Scalar::Text { most: None },
        Scalar::Float32 => Scalar::Float64,
        other => other,
    };
    let is_number = scalar.is_number();
    Some(match what {
        Measured::Count | Measured::Distinct => Scalar::Int(IntType::UInt64),
        Measured::Min | Measured::Max => same,
        Measured::Quantile(_) if is_number => Scalar::Float64,
        Measured::Quantile(_) => same,
        Measured::Share | Measured::Mean if is_number => Scalar::Float64,
        Measured::Sum if matches!(same, Scalar::Float64) => Scalar::Float64,
        Measured::Sum if is_number => {
            let scale = match scalar {
                Scalar::Decimal { scale, .. } => scale,
                _ => 0,
            };
            Scalar::Decimal { precision: MAX_PRECISION, scale }
        }
        Measured::Sum | Measured::Mean if matches!(scalar, Scalar::Duration(_)) => scalar,
        _ => return None,
    })
}

/// How many digits stand after the mark of a type's whole numbers.
pub(super) fn scale_of(data_type: &DataType) -> u8 {
    match data_type {
        DataType::Decimal32(_, scale)
        | DataType::Decimal64(_, scale)
        | DataType::Decimal128(_, scale) => scale.unsigned_abs(),
        other => {
            debug_assert!(is_whole(other), "{other}");
            0
        }
    }
}
