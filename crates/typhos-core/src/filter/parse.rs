//! The text of a question → its parts. Nothing is known of columns and types here.

use crate::terms::{Phrase, PhraseError, Spoken, Token, Word};

/// Parts within parts, at most: nobody asks deeper, and the stack is not endless.
const MOST_DEPTH: usize = 64;

/// A part of a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expr {
    Any(Vec<Expr>),
    All(Vec<Expr>),
    Not(Box<Expr>),
    Absent(Spoken),
    Compare(Spoken, Comparison),
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

pub(super) fn parse(question: &str) -> Result<Expr, PhraseError> {
    let mut parser = Parser { words: Phrase::of(question)?, depth: 0 };
    let expr = parser.any()?;
    match parser.words.is_over() {
        true => Ok(expr),
        false => Err(parser.words.wrong("'and', 'or' or the end of the question")),
    }
}

struct Parser {
    words: Phrase,
    depth: usize,
}

impl Parser {
    fn any(&mut self) -> Result<Expr, PhraseError> {
        let mut parts = vec![self.all()?];
        while self.words.takes("or") {
            parts.push(self.all()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::Any(parts) })
    }

    fn all(&mut self) -> Result<Expr, PhraseError> {
        let mut parts = vec![self.part()?];
        while self.words.takes("and") {
            parts.push(self.part()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Expr::All(parts) })
    }

    fn part(&mut self) -> Result<Expr, PhraseError> {
        self.depth += 1;
        if self.depth > MOST_DEPTH {
            let span = self.words.span();
            let message = format!("the question is nested more than {MOST_DEPTH} deep");
            return Err(PhraseError { span, message });
        }
        let part = if self.words.takes("not") {
            Expr::Not(Box::new(self.part()?))
        } else if self.words.takes_mark("(") {
            let inner = self.any()?;
            self.words.needs_mark(")")?;
            inner
        } else {
            self.test()?
        };
        self.depth -= 1;
        Ok(part)
    }

    fn test(&mut self) -> Result<Expr, PhraseError> {
        let column = self.words.spoken()?;
        if self.words.takes("is") {
            let not = self.words.takes("not");
            if !self.words.takes("absent") && !self.words.takes("null") {
                return Err(self.words.wrong("'absent'"));
            }
            return Ok(negated(Expr::Absent(column), not));
        }
        let not = self.words.takes("not");
        if self.words.takes("in") {
            self.words.needs_mark("(")?;
            let mut values = vec![self.words.value()?];
            while self.words.takes_mark(",") {
                values.push(self.words.value()?);
            }
            self.words.needs_mark(")")?;
            return Ok(negated(Expr::Compare(column, Comparison::OneOf(values)), not));
        }
        if self.words.takes("between") {
            let low = self.words.value()?;
            if !self.words.takes("and") {
                return Err(self.words.wrong("'and'"));
            }
            let low = Expr::Compare(column.clone(), Comparison::AtLeast(low));
            let high = Expr::Compare(column, Comparison::AtMost(self.words.value()?));
            return Ok(negated(Expr::All(vec![low, high]), not));
        }
        if not {
            return Err(self.words.wrong("'in' or 'between'"));
        }
        let Token::Mark(mark) = *self.words.peek() else {
            return Err(self.words.wrong("a comparison such as '='"));
        };
        if matches!(mark, "(" | ")" | ",") {
            return Err(self.words.wrong("a comparison such as '='"));
        }
        self.words.next();
        let value = self.words.value()?;
        let comparison = match mark {
            "<" => Comparison::Less(value),
            "<=" => Comparison::AtMost(value),
            ">" => Comparison::More(value),
            ">=" => Comparison::AtLeast(value),
            _ => Comparison::OneOf(vec![value]),
        };
        Ok(negated(Expr::Compare(column, comparison), matches!(mark, "!=" | "<>")))
    }
}

fn negated(expr: Expr, not: bool) -> Expr {
    if not { Expr::Not(Box::new(expr)) } else { expr }
}
