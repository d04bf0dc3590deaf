//! Encodings other than UTF-8.

use super::{Trait, text, times};

fn encoded(name: &'static str, label: &str, text: &str, want: &'static str) -> Trait {
    let encoding = encoding_rs::Encoding::for_label(label.as_bytes()).expect("a label");
    let (bytes, _, is_lossy) = encoding.encode(text);
    assert!(!is_lossy, "{label} holds all of it");
    Trait { name, text: bytes.into_owned(), want }
}

fn bytes(name: &'static str, text: &[u8], want: &'static str) -> Trait {
    Trait { name, text: text.to_vec(), want }
}

pub fn traits() -> Vec<Trait> {
    let nordic = "port;name\n1;Tårnvik\n2;Skerrøy\n3;Hölmsund\n";
    let late = "id,name\n".to_owned() + &times(200_000, "#,Holm\n") + "7,Tårnvik\n8,Skerrøy\n";
    let mut mixed = nordic.as_bytes().to_vec();
    mixed.extend_from_slice(b"4;Sk\xe4r\n");
    vec![
        text("UTF-8", nordic, "semicolon | port: uint8 | name: text"),
        encoded(
            "western",
            "windows-1252",
            nordic,
            "semicolon windows-1252 likely | port: uint8 | name: text",
        ),
        encoded(
            "western, in the header alone",
            "windows-1252",
            "Höhe,n\n1.5,2\n2.5,3\n",
            "comma windows-1252 likely | Höhe: decimal(2,1) | n: uint8",
        ),
        encoded(
            "central European",
            "windows-1250",
            "id;port\n1;Zátoka\n2;Řežice\n3;Šťáhlav\n4;Kůň\n",
            "semicolon windows-1250 likely | id: uint8 | port: text",
        ),
        encoded(
            "Cyrillic",
            "windows-1251",
            "id;порт\n1;Причал северный\n2;Остров дальний\n",
            "semicolon windows-1251 likely | id: uint8 | порт: text",
        ),
        encoded(
            "Japanese",
            "shift_jis",
            "id,港\n1,北の島\n2,スケル港\n3,ひがし\n",
            "comma shift_jis likely | id: uint8 | 港: text",
        ),
        encoded(
            "Chinese",
            "gbk",
            "id,港口\n1,北方的岛屿\n2,灯塔和码头\n",
            "comma gbk likely | id: uint8 | 港口: text",
        ),
        encoded(
            "Korean",
            "euc-kr",
            "id,항구\n1,북쪽 섬\n2,등대\n",
            "comma euc-kr likely | id: uint8 | 항구: text",
        ),
        bytes(
            "the sign of the euro where others have that of any currency",
            b"n;price\n1;2,50 \xa4\n2;3,50 \xa4\n",
            "semicolon iso-8859-15 likely | n: uint8 | price: decimal(3,2)",
        ),
        encoded(
            "Greek",
            "windows-1253",
            "n;όνομα\n1;Λιμάνι του βορρά\n2;Φάρος\n",
            "semicolon windows-1253 likely | n: uint8 | όνομα: text",
        ),
        bytes(
            "a code page of old",
            b"id;name\n1;J\x81rgen\n2;K\x94ln\n3;S\x81d\n4;Gr\x81\xe1e\n",
            "semicolon cp850 likely | id: uint8 | name: text",
        ),
        bytes(
            "UTF-16 with its mark",
            &[
                &b"\xff\xfe"[..],
                &"a,b\n1,2\n".encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>(),
            ]
            .concat(),
            "comma utf-16le | a: uint8 | b: uint8",
        ),
        bytes("UTF-8 with its mark", b"\xef\xbb\xbfa,b\n1,2\n", "comma | a: uint8 | b: uint8"),
        bytes(
            "UTF-8 with one wrong byte stays UTF-8",
            &mixed,
            "semicolon | port: uint8 | name: text",
        ),
        encoded(
            "western, far behind the head of the file",
            "windows-1252",
            &late,
            "comma windows-1252 likely | id: uint32 | name: category",
        ),
        encoded(
            "apostrophes and dashes of word processors",
            "windows-1252",
            "id,note\n1,the captain\u{2019}s hat\n2,Holm \u{2013} Tang\n3,caf\u{e9}\n",
            "comma windows-1252 likely | id: uint8 | note: text",
        ),
        bytes(
            "packed with bzip2",
            b"BZh91AY&SY\x00\x00",
            "FILE cannot be read as delimited text: it is packed with bzip2; unpack it first, or pipe it in: bzip2 -dc FILE | typhos scout -",
        ),
        bytes(
            "bytes that are no text",
            &[7u8, 200, 3, 4, 255, 10, 44].repeat(40),
            "FILE cannot be read as delimited text: it is full of bytes that are not text",
        ),
        bytes(
            "no JSON: a header in brackets",
            b"[a],[b]\n1,2\n3,4\n",
            "comma | [a]: uint8 | [b]: uint8",
        ),
    ]
}
