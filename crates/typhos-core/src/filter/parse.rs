//! The text of a question → its parts. Nothing is known of columns and types here.

use std::ops::Range;

use super::FilterError;

/// Parts within parts, at most: nobody asks deeper, and the stack is not endless.
const MOST_DEPTH: usize = 64;

/// A name or a value, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Word {
    pub text: String,
    pub span: Range<usize>,
}

/// A part of a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expr {
    Any(Vec<Expr>),
    All(Vec<Expr>),
    Not(Box<Expr>),
    Absent(Word),
    Compare(Word, Comparison),
}

/// What a value is compared with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Comparison {
    Less(Word),
    AtMost(Word),
    More(Word),
    AtLeast(Word),
    OneOf(Vec<Word>),
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    /// A bare word or number.
    Bare(String),
    /// A column in double quotes.
    Name(String),
    /// A text in single quotes.
    Text(String),
    /// An operator, a comma or a parenthesis.
    Mark(&'static str),
    End,
}

const MARKS: [&str; 10] = ["<=", ">=", "<>", "!=", "=", "<", ">", "(", ")", ","];

pub(super) fn parse(question: &str) -> Result<Expr, FilterError> {
    let mut parser = Parser { tokens: tokens(question)?, at: 0, depth: 0 };
    let expr = parser.any()?;
    match parser.peek() {
        Token::End => Ok(expr),
        _ => Err(parser.wrong("'and', 'or' or the end of the question")),
    }
}

fn tokens(question: &str) -> Result<Vec<(Token, Range<usize>)>, FilterError> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(letter) = question[at..].chars().next() {
        let rest = &question[at..];
        if letter.is_whitespace() {
            at += letter.len_utf8();
            continue;
        }
        let (token, length) = if let Some(mark) = MARKS.iter().find(|mark| rest.starts_with(**mark))
        {
            (Token::Mark(mark), mark.len())
        } else if letter == '\'' || letter == '"' {
            let (text, length) = quoted(rest, letter).ok_or_else(|| FilterError {
                span: at..question.len(),
                message: format!("the quote {letter} is never closed"),
            })?;
            (if letter == '"' { Token::Name(text) } else { Token::Text(text) }, length)
        } else {
            let ends = |c: char| c.is_whitespace() || "<>=!(),'\"".contains(c);
            let length = rest.find(ends).unwrap_or(rest.len());
            if length == 0 {
                let message = format!("'{letter}' says nothing here; for 'is not' write '!='");
                return Err(FilterError { span: at..at + letter.len_utf8(), message });
            }
            (Token::Bare(rest[..length].to_owned()), length)
        };
        tokens.push((token, at..at + length));
        at += length;
    }
    tokens.push((Token::End, question.len()..question.len()));
    Ok(tokens)
}

/// What stands in quotes at the start of a text, a doubled quote being one, and its length with them.
fn quoted(text: &str, quote: char) -> Option<(String, usize)> {
    let mut inner = String::new();
    let mut letters = text.char_indices().skip(1).peekable();
    while let Some((at, letter)) = letters.next() {
        if letter != quote {
            inner.push(letter);
        } else if letters.peek().is_some_and(|(_, next)| *next == quote) {
            inner.push(quote);
            letters.next();
        } else {
            return Some((inner, at + 1));
        }
    }
    None
}

struct Parser {
    tokens: Vec<(Token, Range<usize>)>,
    at: usize,
    depth: usize,
}

impl Parser {
    fn peek(&self) -> &Token {
        &self.tokens[self.at].0
    }

    fn next(&mut self) -> (Token, Range<usize>) {
        let token = self.tokens[self.at].clone();
        self.at = (self.at + 1).min(self.tokens.len() - 1);
        token
    }

    fn wrong(&self, wanted: &str) -> FilterError {
        let (token, span) = &self.tokens[self.at];
        let found = match token {
            Token::Bare(word) => format!("'{word}'"),
            Token::Name(name) => format!("the column \"{name}\""),
            Token::Text(text) => format!("the text '{text}'"),
            Token::Mark(mark) => format!("'{mark}'"),
            Token::End => "the end".into(),
        };
        FilterError { span: span.clone(), message: format!("{wanted} is missing before {found}") }
    }

    /// Takes a word of the language, if it is next.
    fn takes(&mut self, word: &str) -> bool {
        let is_next = matches!(self.peek(), Token::Bare(next) if next.eq_ignore_ascii_case(word));
        self.at += usize::from(is_next);
        is_next
    }

    fn takes_mark(&mut self, mark: &str) -> bool {
        let is_next = matches!(self.peek(), Token::Mark(next) if *next == mark);
        self.at += usize::from(is_next);
        is_next
    }

    fn needs_mark(&mut self, mark: &str) -> Result<(), FilterError> {
        if self.takes_mark(mark) { Ok(()) } else { Err(self.wrong(&format!("'{mark}'"))) }
    }

    fn any(&mut self) -> Result<Expr, FilterError> {
        let mut parts = vec![self.all()?];
        while self.takes("or") {
            parts.push(self.all()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::Any(parts) })
    }

    fn all(&mut self) -> Result<Expr, FilterError> {
        let mut parts = vec![self.part()?];
        while self.takes("and") {
            parts.push(self.part()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::All(parts) })
    }

    fn part(&mut self) -> Result<Expr, FilterError> {
        self.depth += 1;
        if self.depth > MOST_DEPTH {
            let span = self.tokens[self.at].1.clone();
            let message = format!("the question is nested more than {MOST_DEPTH} deep");
            return Err(FilterError { span, message });
        }
        let part = if self.takes("not") {
            Expr::Not(Box::new(self.part()?))
        } else if self.takes_mark("(") {
            let inner = self.any()?;
            self.needs_mark(")")?;
            inner
        } else {
            self.test()?
        };
        self.depth -= 1;
        Ok(part)
    }

    fn test(&mut self) -> Result<Expr, FilterError> {
        let column = match self.peek().clone() {
            Token::Bare(text) | Token::Name(text) => Word { text, span: self.next().1 },
            _ => return Err(self.wrong("a column")),
        };
        if self.takes("is") {
            let not = self.takes("not");
            if !self.takes("absent") && !self.takes("null") {
                return Err(self.wrong("'absent'"));
            }
            return Ok(negated(Expr::Absent(column), not));
        }
        let not = self.takes("not");
        if self.takes("in") {
            self.needs_mark("(")?;
            let mut values = vec![self.value()?];
            while self.takes_mark(",") {
                values.push(self.value()?);
            }
            self.needs_mark(")")?;
            return Ok(negated(Expr::Compare(column, Comparison::OneOf(values)), not));
        }
        if self.takes("between") {
            let low = self.value()?;
            if !self.takes("and") {
                return Err(self.wrong("'and'"));
            }
            let low = Expr::Compare(column.clone(), Comparison::AtLeast(low));
            let high = Expr::Compare(column, Comparison::AtMost(self.value()?));
            return Ok(negated(Expr::All(vec![low, high]), not));
        }
        if not {
            return Err(self.wrong("'in' or 'between'"));
        }
        let Token::Mark(mark) = *self.peek() else {
            return Err(self.wrong("a comparison such as '='"));
        };
        if matches!(mark, "(" | ")" | ",") {
            return Err(self.wrong("a comparison such as '='"));
        }
        self.next();
        let value = self.value()?;
        let comparison = match mark {
            "<" => Comparison::Less(value),
            "<=" => Comparison::AtMost(value),
            ">" => Comparison::More(value),
            ">=" => Comparison::AtLeast(value),
            _ => Comparison::OneOf(vec![value]),
        };
        Ok(negated(Expr::Compare(column, comparison), matches!(mark, "!=" | "<>")))
    }

    fn value(&mut self) -> Result<Word, FilterError> {
        match self.peek().clone() {
            Token::Text(text) => Ok(Word { text, span: self.next().1 }),
            Token::Bare(text) if is_plain(&text) => Ok(Word { text, span: self.next().1 }),
            Token::Bare(text) => Err(FilterError {
                span: self.tokens[self.at].1.clone(),
                message: format!("texts and dates stand in single quotes: '{text}'"),
            }),
            _ => Err(self.wrong("a value")),
        }
    }
}

/// Whether a value may stand without quotes.
fn is_plain(word: &str) -> bool {
    matches!(word, "true" | "false") || crate::readings::parse_number(word.as_bytes()).is_some()
}

fn negated(expr: Expr, not: bool) -> Expr {
    if not { Expr::Not(Box::new(expr)) } else { expr }
}
