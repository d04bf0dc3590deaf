//! The ways in which a table is weighed beside its declaration: as text, and with wide types.

use crate::infer::Decision;
use crate::readings::NumberStyle;
use crate::schema::{
    ColumnDecl, ColumnFrom, ColumnSource, Layout, Misfit, Rounding, Scalar, Schema,
};

/// Two schemas of the whole input, every column of it at its place.
#[derive(Debug, Clone)]
pub struct Faces {
    /// Every column as text.
    pub text: Schema,
    /// Numbers in 64 bits, everything else as text: what a hurried import gives.
    pub wide: Schema,
    /// For each column of the input the declared column that is made of it: the first, where there are
    /// several.
    pub declared: Vec<Option<usize>>,
}

/// The faces of an input with columns of these `names` under a schema. `sources` says which of them each
/// declared column is made of; `found` is what was decided about each, where somebody looked, and tells
/// what columns are that are not declared.
pub fn faces(
    schema: &Schema,
    sources: &[ColumnSource],
    names: &[String],
    found: Option<&[Decision]>,
) -> Faces {
    let declared: Vec<Option<usize>> = (0..names.len())
        .map(|at| sources.iter().position(|source| source.columns().contains(&at)))
        .collect();
    let column = |at: usize, ty: Scalar, like: Option<&ColumnDecl>| {
        let mut column = ColumnDecl::new(&names[at], ty);
        column.from = Some(ColumnFrom::Position(at + 1));
        column.misfit = Misfit::Null;
        column.absent = like.and_then(|like| like.absent.clone());
        if ty.is_number() {
            column.rounding = Rounding::HalfEven;
        }
        column
    };
    let of = |make: &dyn Fn(usize, Option<&ColumnDecl>) -> Scalar| {
        let columns = declared.iter().enumerate().map(|(at, declared)| {
            let like = declared.map(|declared| &schema.columns[declared]);
            column(at, make(at, like), like)
        });
        let columns = columns.collect();
        // Files are written alike, but for the order.
        let layout = Layout {
            key: Vec::new(),
            sort: Vec::new(),
            partition: Vec::new(),
            ..schema.layout.clone()
        };
        Schema { input: schema.input.clone(), columns, layout, ..Schema::default() }
    };
    let plain = Scalar::Text { most: None };
    let wide = |at: usize, like: Option<&ColumnDecl>| match like {
        Some(column) => wide_type(column.scalar(), &column.style),
        None => {
            let found = found.and_then(|found| found.get(at));
            found.map_or(plain, |decision| wide_type(decision.ty, &decision.style))
        }
    };
    Faces { text: of(&|_, _| plain), wide: of(&wide), declared }
}

/// What a hurried import makes of a type: it knows plain numbers, and nothing else.
fn wide_type(ty: Scalar, style: &NumberStyle) -> Scalar {
    if style.is_plain() { ty.widest() } else { Scalar::Text { most: None } }
}
