//! Lists and structs, through every command.

use crate::world::World;

const DOCKINGS: &str = r#"{"id":1,"vessel":{"name":"Alca","imo":"0042"},"readings":[{"t":1,"v":1.25},{"t":2,"v":null}],"tags":["a","b"]}
{"id":2,"vessel":{"name":"Sula","imo":"0043"},"readings":[],"tags":[]}
{"id":3,"vessel":{"name":"Alca"},"readings":[{"t":200,"v":0.5,"by":{"who":"Liv"}},null],"tags":null}
{"id":4,"vessel":null}
"#;

/// The value of each column of a row of a peek.
fn rows(world: &World, line: &str) -> Vec<Vec<serde_json::Value>> {
    serde_json::from_value(world.json(&format!("{line} --json"))["rows"].clone()).unwrap()
}

#[test]
fn elements_are_looked_at_and_drafted_as_lists() {
    let world = World::new();
    world.write("d.ndjson", DOCKINGS);
    let report = world.json("scout d.ndjson --json");
    let columns = report["columns"].as_array().unwrap();
    let of = |key: &str| columns.iter().map(|c| c[key].as_str().unwrap()).collect::<Vec<_>>();
    assert_eq!(
        of("name"),
        [
            "id",
            "vessel.name",
            "vessel.imo",
            "readings[].t",
            "readings[].v",
            "tags[]",
            "readings[].by.who"
        ]
    );
    // Three elements are objects; the one that is null has no members to lack.
    assert_eq!(columns[3]["absent"], 0);
    assert_eq!(columns[4]["absent"], 1);
    world.ok("scout d.ndjson --column readings[].v");
    world.run("scout d.ndjson --key id,readings[].t").status(2).complains("is inside of a list");
    // Nor is an element a column by its position.
    world.write("p.typhos.toml", "typhos = 1\n[columns]\nx = { type = 'uint8', from = 4 }\n");
    world.run("check p.typhos.toml d.ndjson").status(2).complains("as its list has elements");

    let flat = world.ok("draft d.ndjson").out;
    let readings = "= { type = \"list(struct)\", fields = {\n  \
         t  = { type = \"uint16\", required = true },  # 1 to 200; all distinct; would fit uint8 without the headroom\n  \
         v  = { type = \"decimal(3,2)\" },  # 0.5 to 1.25; fractions of up to 2 digits; all distinct; 1 absent\n  \
         by = { type = \"struct\", fields = {\n    \
         who = { type = \"text(6)\" },  # longest 3 characters; 2 absent\n  } },\n} }\n";
    assert!(flat.contains(readings), "{flat}");
    let kept = world.ok("draft d.ndjson --nested keep").out;
    assert!(kept.contains("vessel   = { type = \"struct\", fields = {\n  name = "), "{kept}");
    // Keeping a schema adds what it does not speak of, and a list it does speak of is spoken of.
    world.write("s.typhos.toml", "typhos = 1\n[columns]\nreadings = { type = \"list(struct)\", fields = { t = { type = \"uint8\" } } }\n");
    let merged = world.ok("draft d.ndjson --keep s.typhos.toml").out;
    assert_eq!(merged.matches("readings").count(), 1, "{merged}");
    assert!(merged.contains("tags = { type = \"list(text(1))\" }"), "{merged}");
}

#[test]
fn both_drafts_check_load_and_read_back() {
    let world = World::new();
    world.write("d.ndjson", DOCKINGS);
    for how in ["flat", "keep"] {
        world.ok(&format!("draft d.ndjson --nested {how} -o {how}.typhos.toml"));
        world.ok(&format!("check {how}.typhos.toml d.ndjson")).says("every value fits");
        let weighed = world.json(&format!("weigh {how}.typhos.toml d.ndjson --json"));
        let columns = weighed["columns"].as_array().unwrap();
        let list = columns.iter().find(|column| column["name"] == "readings").unwrap();
        let leaves = list["leaves"].as_array().unwrap();
        let paths: Vec<_> = leaves.iter().map(|leaf| leaf["path"].as_str().unwrap()).collect();
        assert_eq!(paths, ["[].t", "[].v", "[].by.who"]);
        let sum: u64 = leaves.iter().map(|leaf| leaf["memory"].as_u64().unwrap()).sum();
        // Four lists have five ends; one of them is absent, one element, and two of "by".
        assert_eq!(list["memory"]["declared"].as_u64().unwrap(), sum + 5 * 4 + 1 + 1 + 1);
        let sum: u64 = leaves.iter().map(|leaf| leaf["file"].as_u64().unwrap()).sum();
        assert_eq!(list["file"]["declared"], sum);
        for target in ["parquet", "arrow", "sqlite"] {
            world
                .ok(&format!("load {how}.typhos.toml d.ndjson --into {how}.{target}"))
                .says("4 read = 4 loaded")
                .says("proven");
            let rows = rows(&world, &format!("peek {how}.{target}"));
            let has = |text: &str| rows[2].iter().any(|cell| cell.as_str() == Some(text));
            assert!(
                has(r#"[{"t":200,"v":0.50,"by":{"who":"Liv"}},null]"#),
                "{how} {target}: {rows:?}"
            );
            assert_eq!(rows[1].iter().filter(|cell| cell.as_str() == Some("[]")).count(), 2);
            assert!(rows[3][1..].iter().all(serde_json::Value::is_null), "{rows:?}");
        }
        // What went as text into the database is the same list again.
        world.ok(&format!("peek {how}.sqlite --json"));
    }
}

#[test]
fn a_misfit_inside_is_named_by_its_path_and_has_its_own_policy() {
    let world = World::new();
    world.write("d.ndjson", DOCKINGS);
    let schema = |list: &str, field: &str| {
        format!(
            "typhos = 1\n[columns]\nid = {{ type = 'uint8' }}\n\
             readings = {{ type = 'list(struct)'{list}, fields = {{ t = {{ type = 'uint8', high = 100{field} }}, \
             who = {{ type = 'text', from = 'by.who' }} }} }}\n"
        )
    };
    world.write("stop.typhos.toml", schema("", ""));
    let ran = world.run("load stop.typhos.toml d.ndjson --into a.parquet").status(4);
    assert!(
        ran.err.contains(
            "d.ndjson:3: column 'readings[0].t': '200' is above the declared high of 100"
        ),
        "{}",
        ran.err
    );
    // Fields have the policy of what they are in, unless they say their own.
    world.write("reject.typhos.toml", schema(", misfit = 'reject'", ""));
    world
        .run("check reject.typhos.toml d.ndjson")
        .status(1)
        .says("d.ndjson:3  readings[0].t: '200' is above the declared high of 100");
    world
        .run("load reject.typhos.toml d.ndjson --into b.parquet")
        .status(1)
        .says("4 read = 3 loaded + 1 set aside");
    let rejected: serde_json::Value =
        serde_json::from_str(world.read("b.parquet.rejects.ndjson").trim()).unwrap();
    assert_eq!(rejected["rejected_column"], "readings[0].t");
    world.write("null.typhos.toml", schema(", misfit = 'reject'", ", misfit = 'null'"));
    world
        .run("load null.typhos.toml d.ndjson --into c.parquet")
        .status(1)
        .says("4 read = 4 loaded + 0 set aside; 1 value made null");
    let rows = rows(&world, "peek c.parquet");
    assert_eq!(rows[2][1], r#"[{"t":null,"who":"Liv"},null]"#);
    // What nobody declares is told, wherever it is.
    assert!(ran.err.contains("'readings[].v'"), "{}", ran.err);
    let ran = world.run("load reject.typhos.toml d.ndjson --into d.parquet --undeclared stop");
    let ran = ran.status(4);
    assert!(ran.err.contains("'readings[].v'"), "{}", ran.err);
}

#[test]
fn a_field_of_delimited_text_may_hold_json() {
    let world = World::new();
    world.write(
        "t.csv",
        "id,legs,at\n1,\"[{\"\"to\"\":\"\"Holm\"\",\"\"km\"\":12.5},{\"\"to\"\":\"\"Sund\"\"}]\",\"{\"\"lat\"\":1}\"\n2,,\n3,[],{}\n4,Holm,[1]\n5,\"[1,2\",\"{\"\"lat\"\":\"\"x\"\"}\"\n",
    );
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\nid = { type = 'uint8' }\n\
         legs = { type = 'list(struct)', misfit = 'null', fields = { to = { type = 'lowcard', required = true, misfit = 'reject' }, km = { type = 'decimal(4,1)' } } }\n\
         at = { type = 'struct', misfit = 'null', fields = { lat = { type = 'float64' } } }\n",
    );
    let checked = world.run("check t.typhos.toml t.csv").status(1);
    checked
        .says("t.csv:5  'Holm' is not JSON: it has 'H' at byte 1 where a value was expected")
        .says("t.csv:5  '[1]' is an array, and not an object")
        .says("t.csv:6  '[1,2' is not JSON: it ends at byte 4, where a comma or ] was expected")
        .says("t.csv:6  lat: 'x' is not a number");
    world
        .run("load t.typhos.toml t.csv --into t.parquet")
        .status(1)
        .says("5 read = 5 loaded + 0 set aside; 4 values made null");
    let rows = rows(&world, "peek t.parquet");
    assert_eq!(rows[0][1], r#"[{"to":"Holm","km":12.5},{"to":"Sund","km":null}]"#);
    assert_eq!(rows[2][2], r#"{"lat":null}"#);
    assert_eq!((&rows[1][1], &rows[3][1]), (&serde_json::Value::Null, &serde_json::Value::Null));
}

#[test]
fn elements_become_rows() {
    let world = World::new();
    world.write("d.ndjson", DOCKINGS);
    world.ok("draft d.ndjson --unnest readings --naming snake -o u.typhos.toml");
    let schema = world.read("u.typhos.toml");
    assert!(schema.contains("unnest = \"readings\""), "{schema}");
    assert!(schema.contains("from = \"readings[].t\""), "{schema}");
    let schema = schema.replace("[columns]\n", "[columns]\nnth = { generate = \"position\" }\n");
    world.write("u.typhos.toml", &schema);
    world.ok("load u.typhos.toml d.ndjson --into u.parquet").says("6 read = 6 loaded");
    let shown = world.json("peek u.parquet --json");
    let names: Vec<_> =
        shown["columns"].as_array().unwrap().iter().map(|c| c["name"].as_str().unwrap()).collect();
    assert_eq!(
        names,
        [
            "nth",
            "id",
            "vessel_name",
            "vessel_imo",
            "readings_t",
            "readings_v",
            "tags",
            "readings_by_who"
        ]
    );
    let found = rows(&world, "peek u.parquet");
    let of =
        |at: usize| found.iter().map(|row| row[at].as_str().unwrap_or("-")).collect::<Vec<_>>();
    assert_eq!(of(0), ["1", "2", "-", "1", "2", "-"]);
    assert_eq!(of(1), ["1", "1", "2", "3", "3", "4"]);
    assert_eq!(of(4), ["1", "2", "-", "200", "-", "-"]);
    // A record is set aside whole, and those without elements are left out where that is said.
    let strict = schema
        .replace("unnest = \"readings\"", "unnest = \"readings\"\nwithout_elements = \"drop\"")
        .replace(
            "from = \"readings[].t\"",
            "from = \"readings[].t\", high = 100, misfit = \"reject\"",
        );
    world.write("strict.typhos.toml", strict);
    world
        .run("load strict.typhos.toml d.ndjson --into s.parquet")
        .status(1)
        .says("4 read = 2 loaded + 2 set aside; 2 records without elements left out, as declared");
    assert_eq!(world.read("s.parquet.rejects.ndjson").lines().count(), 1);
    // What is no list cannot be unnested, and a position is one of something.
    let ran = world.run("scout d.ndjson --unnest vessel").status(4);
    assert!(
        ran.err.contains(
            "'vessel' is not a list that can be unnested: d.ndjson:1 has an object there"
        ),
        "{}",
        ran.err
    );
    world.write("p.typhos.toml", "typhos = 1\n[columns]\nn = { generate = 'position' }\n");
    world.run("check p.typhos.toml d.ndjson").status(2);
}

#[test]
fn mistakes_in_nested_declarations_are_all_told() {
    let world = World::new();
    world.write("t.csv", "a\n1\n");
    world.write(
        "t.typhos.toml",
        "typhos = 1\n[columns]\n\
         a = { type = 'struct' }\n\
         b = { type = 'list(uint8)', fields = { x = { type = 'text' } } }\n\
         c = { type = 'struct', fields = { x = { type = 'auto' }, y = { type = 'uint8', from = 2 }, z = { generate = 'line' } } }\n\
         d = { type = 'struct', fields = { x = { type = 'json', from = 'p' }, y = { type = 'uint8', from = 'p.q' } } }\n\
         e = { type = 'list(date)', patterns = ['HH:mm'] }\n\
         [layout]\nkey = ['a']\nsort = ['b desc']\n",
    );
    let ran = world.run("check t.typhos.toml t.csv").status(2);
    for told in [
        "a struct lists its fields",
        "'fields' does not apply to list(uint8)",
        "the type of a field is not found by itself",
        "a field comes from one member of the object",
        "'generate' does not apply to a field of a struct",
        "'y' is inside of what 'x' comes from",
        "'HH:mm' reads no date",
        "'a' is a struct, and rows have no order by it",
        "'b' is a list(uint8), and rows have no order by it",
    ] {
        assert!(ran.err.contains(told), "{told}\n{}", ran.err);
    }
}

#[test]
fn depth_and_fields_have_limits_that_can_be_said() {
    let world = World::new();
    world.write("d.ndjson", "{\"a\":{\"b\":[1]}}\n{\"c\":1}\n{\"d\":2}\n");
    world.ok("scout d.ndjson --depth-limit 3");
    world.run("scout d.ndjson --depth-limit 2").status(1).says("nests too deep, at byte 11");
    let ran = world.run("scout d.ndjson --field-limit 4").status(4);
    assert!(ran.err.contains("more than 4 different fields"), "{}", ran.err);
    world.run("scout d.ndjson --depth-limit 129").status(2);
    // A schema says them too.
    world.write(
        "s.typhos.toml",
        "typhos = 1\n[input]\ndepth_limit = 2\n[columns]\nc = { type = 'uint8' }\n",
    );
    world.run("check s.typhos.toml d.ndjson").status(1).says("nests too deep");
}

/// What was read of a record before the value that does not fit is taken back, of every type, at every depth.
#[test]
fn a_value_that_does_not_fit_takes_back_what_its_object_had() {
    let world = World::new();
    let record = |id: u32, codes: &str, z: &str| {
        format!(
            "{{\"id\":{id},\"s\":{{\"open\":{},\"mark\":\"00000000-0000-0000-0000-00000000000{id}\",\"at\":\"{id},2\",\"side\":\"{}\",\
             \"pier\":\"p{id}\",\"on\":\"2024-03-0{id}\",\"codes\":{codes},\"inner\":{{\"fare\":\"{id}.50\"}},\"z\":{z}}}}}\n",
            id % 2 == 1,
            ["port", "starboard"][id as usize % 2],
        )
    };
    let text = [
        record(1, "[1]", "1"),
        record(2, "[2, 3]", "\"bad\""),
        record(3, "[4, 500]", "3"),
        record(4, "[]", "4"),
        record(5, "[5, 6, 7]", "null"),
    ];
    world.write("t.ndjson", text.concat());
    let schema = |misfit: &str, z: &str| {
        format!(
            "typhos = 1\n[columns]\nid = {{ type = \"uint8\" }}\ns = {{ type = \"struct\", misfit = \"{misfit}\", fields = {{ open = {{ type = \"bool\" }}, \
             mark = {{ type = \"uuid\" }}, at = {{ type = \"geopoint\" }}, side = {{ type = \"category\", values = [\"port\", \"starboard\"] }}, \
             pier = {{ type = \"lowcard\" }}, on = {{ type = \"date\" }}, codes = {{ type = \"list(uint8)\" }}, \
             inner = {{ type = \"struct\", fields = {{ fare = {{ type = \"decimal(4,2)\" }} }} }}, z = {{ type = \"uint8\"{z} }} }} }}\n"
        )
    };
    let shown = |id: u32, codes: &str, z: &str| {
        format!(
            "{{open: {}, mark: 00000000-0000-0000-0000-00000000000{id}, at: {id},2, side: {}, pier: p{id}, on: 2024-03-0{id}, codes: {codes}, \
             inner: {{fare: {id}.50}}, z: {z}}}",
            id % 2 == 1,
            ["port", "starboard"][id as usize % 2],
        )
    };
    let rows = |misfit: &str, z: &str, account: &str| -> Vec<String> {
        world.write("s.typhos.toml", schema(misfit, z));
        for target in ["t.parquet", "t.arrow"] {
            let line = format!("load s.typhos.toml t.ndjson --into {target} --mode replace");
            let ran = world.run(&line).says(account).says("proven");
            assert!([0, 1].contains(&ran.status), "{}", ran.err);
        }
        let _ = std::fs::remove_file(world.path("t.parquet.rejects.ndjson"));
        let _ = std::fs::remove_file(world.path("t.arrow.rejects.ndjson"));
        let of = |target: &str| world.ok(&format!("peek {target} --as csv -q")).out;
        let csv = of("t.parquet");
        assert_eq!(of("t.arrow"), csv);
        let mut reader = csv::Reader::from_reader(csv.as_bytes());
        reader.records().map(|row| row.unwrap()[1].to_owned()).collect()
    };
    assert_eq!(
        rows("reject", "", "5 read = 3 loaded + 2 set aside"),
        [shown(1, "[1]", "1"), shown(4, "[]", "4"), shown(5, "[5, 6, 7]", "null")]
    );
    assert_eq!(
        rows("null", "", "5 read = 5 loaded + 0 set aside; 2 values made null"),
        [
            shown(1, "[1]", "1"),
            shown(2, "[2, 3]", "null"),
            shown(3, "[4, null]", "3"),
            shown(4, "[]", "4"),
            shown(5, "[5, 6, 7]", "null")
        ]
    );
    // What is required of a field, and what stands for one that is absent.
    assert_eq!(
        rows("reject", ", required = true", "5 read = 2 loaded + 3 set aside"),
        [shown(1, "[1]", "1"), shown(4, "[]", "4")]
    );
    assert_eq!(
        rows("reject", ", default = \"9\"", "5 read = 3 loaded + 2 set aside"),
        [shown(1, "[1]", "1"), shown(4, "[]", "4"), shown(5, "[5, 6, 7]", "9")]
    );
}
