//! The language server, driven by a client's messages.

#![expect(clippy::needless_pass_by_value, reason = "parameters are written where they are sent")]

use crate::tool::command;
use serde_json::{Value as Json, json};
use std::collections::VecDeque;
use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Stdio};

const URI: &str = "file:///garden/query.sql";

struct Client {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    sent: i64,
    version: i32,
    /// What the server sent of itself, and nobody has looked at.
    heard: VecDeque<Json>,
}

impl Client {
    fn start() -> Self {
        Self::with(&["--data", "demo/data"], json!({"capabilities": {"window": {"showDocument": {"support": true}}}}))
    }

    fn with(arguments: &[&str], initialize: Json) -> Self {
        let mut child = command(&[&["language-server"], arguments].concat())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (input, output) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        let mut client = Self { child, input, output, sent: 0, version: 0, heard: VecDeque::new() };
        let answer = client.ask("initialize", initialize);
        assert_eq!(answer["capabilities"]["documentFormattingProvider"], true);
        client.tell("initialized", json!({}));
        client
    }

    fn send(&mut self, mut message: Json) {
        message["jsonrpc"] = "2.0".into();
        let text = message.to_string();
        write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.input.flush().unwrap();
    }

    fn receive(&mut self) -> Json {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(self.output.read_line(&mut line).unwrap() > 0, "the server is gone");
            match line.trim().strip_prefix("Content-Length: ") {
                Some(number) => length = number.parse().unwrap(),
                None if line.trim().is_empty() => break,
                None => {}
            }
        }
        let mut text = vec![0; length];
        self.output.read_exact(&mut text).unwrap();
        serde_json::from_slice(&text).unwrap()
    }

    fn tell(&mut self, method: &str, params: Json) {
        self.send(json!({"method": method, "params": params}));
    }

    /// Sends a request, whose answer is waited for later.
    fn request(&mut self, method: &str, params: Json) -> i64 {
        self.sent += 1;
        self.send(json!({"id": self.sent, "method": method, "params": params}));
        self.sent
    }

    /// The answer to a request; what comes before it is kept.
    fn answer(&mut self, id: i64) -> Json {
        loop {
            let message = self.receive();
            if message.get("method").is_none() {
                assert_eq!(message["id"], id, "{message}");
                return message;
            }
            self.heard.push_back(message);
        }
    }

    fn ask(&mut self, method: &str, params: Json) -> Json {
        let id = self.request(method, params);
        let answer = self.answer(id);
        assert!(answer.get("error").is_none(), "{answer}");
        answer["result"].clone()
    }

    /// The next message of a method that the server sends of itself.
    fn hear(&mut self, method: &str) -> Json {
        if let Some(at) = self.heard.iter().position(|message| message["method"] == method) {
            return self.heard.remove(at).unwrap()["params"].clone();
        }
        loop {
            let message = self.receive();
            if message["method"] == method {
                return message["params"].clone();
            }
            self.heard.push_back(message);
        }
    }

    /// Opens or changes the text, and gives what is wrong with it.
    fn text(&mut self, text: &str) -> Vec<Json> {
        self.text_of(URI, text)
    }

    fn text_of(&mut self, uri: &str, text: &str) -> Vec<Json> {
        self.version += 1;
        let version = self.version;
        let (method, params) = match version {
            1 => ("didOpen", json!({"textDocument": {"uri": uri, "languageId": "sql", "version": 1, "text": text}})),
            _ => {
                let document = json!({"uri": uri, "version": version});
                ("didChange", json!({"textDocument": document, "contentChanges": [{"text": text}]}))
            }
        };
        self.tell(&format!("textDocument/{method}"), params);
        loop {
            // Those of earlier texts may still be on their way.
            let published = self.hear("textDocument/publishDiagnostics");
            if published["version"] == version {
                assert_eq!(published["uri"], uri);
                return published["diagnostics"].as_array().unwrap().clone();
            }
        }
    }

    /// Asks about a place of the text.
    fn at(&mut self, method: &str, (line, character): (u32, u32)) -> Json {
        let place = json!({"textDocument": {"uri": URI}, "position": {"line": line, "character": character}, "context": {"includeDeclaration": true, "triggerKind": 1}});
        self.ask(&format!("textDocument/{method}"), place)
    }

    /// Asks about the text.
    fn of_text(&mut self, method: &str) -> Json {
        let range = json!({"start": {"line": 0, "character": 0}, "end": {"line": 9999, "character": 0}});
        let options = json!({"tabSize": 2, "insertSpaces": true});
        let params =
            json!({"textDocument": {"uri": URI}, "range": range, "options": options, "context": {"diagnostics": []}});
        self.ask(&format!("textDocument/{method}"), params)
    }

    /// Does what the lens of a title does, the so many of them; gives the text of the document that opens.
    fn lens(&mut self, title: &str, number: usize) -> String {
        let lenses = self.of_text("codeLens");
        let lenses = lenses.as_array().unwrap();
        let command = &lenses.iter().filter(|lens| lens["command"]["title"] == title).nth(number).unwrap()["command"];
        let params = json!({"command": command["command"], "arguments": command["arguments"]});
        let answer = self.ask("workspace/executeCommand", params);
        let shown = self.hear("window/showDocument");
        assert_eq!(shown["uri"], answer["uri"]);
        let path = shown["uri"].as_str().unwrap().strip_prefix("file://").unwrap().to_owned();
        let text = fs::read_to_string(path).unwrap();
        assert_eq!(answer["text"], text.as_str());
        text
    }

    fn leave(mut self) {
        self.ask("shutdown", Json::Null);
        self.tell("exit", Json::Null);
        assert!(self.child.wait().unwrap().success());
    }
}

impl Drop for Client {
    fn drop(&mut self) {
        let _ = self.child.kill();
    }
}

fn lines(locations: &Json) -> Vec<u64> {
    let line = |one: &Json| one["range"]["start"]["line"].as_u64();
    locations.as_array().unwrap().iter().filter_map(line).collect()
}

#[test]
fn an_editor_is_told_what_is_wrong_and_what_fits() {
    let mut client = Client::start();
    let text = "-- ä𝄞\nWITH dark AS (SELECT name, nmae FROM bed WHERE sun = 'shade')\nselect name from dark;\n";
    let problems = client.text(text);
    assert_eq!(problems.len(), 1, "{problems:?}");
    assert_eq!(
        problems[0]["range"],
        json!({"start": {"line": 1, "character": 27}, "end": {"line": 1, "character": 31}})
    );
    assert_eq!((&problems[0]["code"], &problems[0]["severity"]), (&json!("42S22"), &json!(1)));
    assert!(problems[0]["message"].as_str().unwrap().contains("did you mean \"name\"?"), "{problems:?}");

    let actions = client.of_text("codeAction");
    assert_eq!(actions[0]["title"], "write name");
    assert_eq!(actions[0]["edit"]["changes"][URI][0]["newText"], "name");
    let symbols = client.of_text("documentSymbol");
    assert_eq!(symbols[0]["children"][0]["name"], "dark");
    let edits = client.of_text("formatting");
    assert!(edits[0]["newText"].as_str().unwrap().ends_with("SELECT name FROM dark;\n"), "{edits}");

    assert_eq!(client.text("SELECT b. FROM bed b").len(), 1);
    let completions = client.at("completion", (0, 9));
    let labels: Vec<&str> = completions.as_array().unwrap().iter().filter_map(|item| item["label"].as_str()).collect();
    assert!(labels.contains(&"sun") && !labels.contains(&"hours"), "{labels:?}");
    assert_eq!(completions[0]["textEdit"]["range"]["start"], json!({"line": 0, "character": 9}));
    assert!(client.text("SELECT name FROM bed").is_empty());
    assert_eq!(client.at("hover", (0, 2)), Json::Null);
    client.leave();
}

/// Where a message leaves no choice, its fix is an action; a note is a warning.
#[test]
fn mistakes_are_mended() {
    let mut client = Client::start();
    for (text, severity, code, mended) in [
        ("selec name from bed", 1, "42000", "SELECT name from bed"),
        ("select name form bed", 1, "42000", "select name FROM bed"),
        ("select b.nmae from bed b", 1, "42S22", "select b.name from bed b"),
        ("select name from bde", 1, "42S02", "select name from bed"),
        ("select b.name from home.bde as b", 1, "42S02", "select b.name from home.bed as b"),
        (
            "select bed.bed_id from bed order by bed.bde_id",
            1,
            "42S22",
            "select bed.bed_id from bed order by bed.bed_id",
        ),
        ("select name from bed where sun = shade", 1, "42S22", "select name from bed where sun = 'shade'"),
        ("select name from bed where sun == 'shade'", 1, "42000", "select name from bed where sun = 'shade'"),
        ("select ph × 2 from bed", 1, "42000", "select ph * 2 from bed"),
        ("select 1 as order", 1, "42000", "select 1 as \"order\""),
        ("select name from bed where sun = null", 2, "null-comparison", "select name from bed where sun IS NULL"),
        (
            "select name from bed where ph between 7 and 5",
            2,
            "exchanged-bounds",
            "select name from bed where ph between 5 AND 7",
        ),
        (
            "select name from bed where bed_id not in (select bed_id from income where amount > 9 or day is null)",
            2,
            "not-in-nulls",
            "select name from bed where bed_id not in (select bed_id from income where (amount > 9 or day is null) AND bed_id IS NOT NULL)",
        ),
        ("select distinct sun from bed group by sun", 3, "needless-distinct", ""),
    ] {
        let problems = client.text(&format!("{text};"));
        let found: Vec<(&Json, &Json)> = problems.iter().map(|found| (&found["severity"], &found["code"])).collect();
        assert_eq!(found, [(&json!(severity), &json!(code))], "{text}: {problems:?}");
        let actions = client.of_text("codeAction");
        let edit = &actions[0]["edit"]["changes"][URI][0];
        let after = edit["newText"].as_str().map(|new| {
            let place = |end: &str| edit["range"][end]["character"].as_u64().unwrap().try_into().unwrap_or(0_usize);
            let letters: Vec<char> = text.chars().collect();
            let part = |range: &[char]| range.iter().collect::<String>();
            format!("{}{new}{}", part(&letters[..place("start")]), part(&letters[place("end")..]))
        });
        assert_eq!(after.unwrap_or_default(), mended, "{text}: {actions}");
    }
    client.leave();
}

/// Of the 48 beds of the demo garden 4 are in the shade; there are 42 names.
#[test]
fn names_are_explained_and_found() {
    let mut client = Client::start();
    let text = "WITH dark AS (\n  SELECT b.name, b.sun AS light FROM bed AS b WHERE b.sun = 'shade'\n)\nSELECT d.name, light FROM dark d ORDER BY light;\nSELECT name FROM taxon;";
    assert_eq!(client.text(text), Vec::<Json>::new());
    let hover =
        |client: &mut Client, place| client.at("hover", place)["contents"]["value"].as_str().unwrap().to_owned();
    let column = hover(&mut client, (1, 11));
    assert!(column.starts_with("column **name**: VARCHAR\n\n48 rows, 42 distinct, from "), "{column}");
    let common = hover(&mut client, (1, 19));
    assert!(common.contains("most common: ") && common.contains("shade "), "{common}");
    let step = hover(&mut client, (3, 28));
    assert!(step.starts_with("common table expression **dark**\n\nabout 4 rows, cost "), "{step}");
    assert!(hover(&mut client, (4, 18)).starts_with("table **taxon**: "));

    // A qualifier, a use of the expression, the name of a result column; a column of a file is given nowhere.
    let given = |client: &mut Client, place| client.at("definition", place)["range"]["start"].clone();
    let place = |line: u32, character: u32| json!({"line": line, "character": character});
    assert_eq!(given(&mut client, (1, 9)), place(1, 44));
    assert_eq!(given(&mut client, (3, 7)), place(3, 31));
    assert_eq!(given(&mut client, (3, 28)), place(0, 5));
    assert_eq!(given(&mut client, (3, 44)), place(1, 26));
    assert_eq!(client.at("definition", (4, 8)), Json::Null);
    assert_eq!(lines(&client.at("references", (0, 6))), [0, 3]);
    assert_eq!(lines(&client.at("references", (1, 44))), [1, 1, 1, 1]);
    client.leave();
}

#[test]
fn steps_carry_their_estimates_and_run() {
    let mut client = Client::start();
    let text = "WITH dark AS (SELECT * FROM bed WHERE sun = 'shade'),\n     few AS (SELECT * FROM dark FETCH FIRST 3 ROWS ONLY)\nSELECT COUNT(*) AS n FROM few;\nCREATE TABLE pot (n INTEGER);\nINSERT INTO pot VALUES (1), (2);\nSELECT * FROM pot;\nSELECT n / 0 FROM pot;";
    assert_eq!(client.text(text), Vec::<Json>::new());
    let hints = client.of_text("inlayHint");
    let shown: Vec<(&str, u64, u64)> = hints
        .as_array()
        .unwrap()
        .iter()
        .map(|hint| {
            let place = &hint["position"];
            (hint["label"].as_str().unwrap(), place["line"].as_u64().unwrap(), place["character"].as_u64().unwrap())
        })
        .collect();
    assert_eq!(shown, [("about 4 rows", 0, 9), ("about 3 rows", 1, 8), ("about 1 row", 2, 29)]);

    // Query and steps have four each, the definition one, the change three, the last two queries four each.
    let lenses = client.of_text("codeLens");
    assert_eq!(lenses.as_array().unwrap().len(), 3 * 4 + 1 + 3 + 2 * 4);
    assert!(client.lens("Run", 0).contains("\nn\n─\n3\n1 row"));
    let dark = client.lens("Run", 1);
    assert!(dark.starts_with("Run: dark\n") && dark.contains("4 rows"), "{dark}");
    let plan = client.lens("Plan", 1);
    assert!(plan.contains("table scan bed") && !plan.contains("aggregate"), "{plan}");
    let measured = client.lens("Measure", 2);
    assert!(measured.starts_with("Measure: few\n") && measured.contains("worst estimate"), "{measured}");
    let steps = client.lens("Steps", 0);
    assert!(steps.contains("dark") && steps.contains("few") && steps.contains("result"), "{steps}");
    let inner = client.lens("Steps", 1);
    assert!(inner.contains("dark") && !inner.contains("few"), "{inner}");
    for number in [3, 4] {
        client.lens("Run", number);
    }
    // The table that was made is known from here on.
    assert!(client.lens("Run", 5).contains("\nn\n─\n1\n2\n2 rows"));
    let hover = loop {
        let hover = client.at("hover", (5, 15))["contents"]["value"].clone();
        if hover != Json::Null {
            break hover;
        }
    };
    assert_eq!(hover, "table **pot**: 2 rows");
    assert!(client.lens("Run", 6).contains("22012"));
    client.leave();
}

#[test]
fn what_runs_can_be_called_off() {
    let mut client = Client::start();
    client.text("SELECT COUNT(*) FROM SERIES(1, 4000000000) AS a (n) WHERE MOD(n, 7) = 3");
    let target = json!({"uri": URI, "position": {"line": 0, "character": 0}});
    let run = json!({"command": "garden-gate.run", "arguments": [target]});
    let first = client.request("workspace/executeCommand", run.clone());
    let second = client.request("workspace/executeCommand", run);
    client.tell("$/cancelRequest", json!({"id": second}));
    // Answers about texts do not wait for it.
    let hover = client
        .request("textDocument/hover", json!({"textDocument": {"uri": URI}, "position": {"line": 0, "character": 8}}));
    client.answer(hover);
    client.tell("$/cancelRequest", json!({"id": first}));
    // It was ended while it ran, or before it began.
    let first = client.answer(first);
    let ended = first["result"]["text"].as_str().is_some_and(|text| text.contains("HY008"));
    assert!(ended || first["error"]["code"] == -32800, "{first}");
    assert_eq!(client.answer(second)["error"]["code"], -32800);
    let nowhere = json!({"command": "garden-gate.run", "arguments": [{"uri": "file:///closed.sql", "position": {"line": 0, "character": 0}}]});
    let asked = client.request("workspace/executeCommand", nowhere);
    assert_eq!(client.answer(asked)["error"]["message"], "the text is not open");
    client.leave();
}

#[test]
fn a_workspace_names_its_tables() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    let write = |name: &str, text: &str| fs::write(root.join(name), text).unwrap();
    fs::create_dir(root.join("wet beds")).unwrap();
    write("wet beds/pot.csv", "n,name\n1,Fern\n2,Moss\n");
    write("garden-gate.toml", "data = ['wet beds']\nparams = { least = 2 }\n[settings]\ntime_limit = 5000\n");
    write("wet beds/tables.sql", "-- the tables\nCREATE TABLE tray (n INTEGER);\nSELECT n FROM tray;");
    let uri = format!("file://{}", root.to_str().unwrap());
    let initialize = json!({"capabilities": {}, "workspaceFolders": [{"uri": uri, "name": "garden"}]});
    let mut client = Client::with(&[], initialize);
    let text = "SELECT name FROM pot WHERE n >= :least;\nSELECT n FROM tray;";
    let problems = client.text(text);
    assert_eq!(lines(&Json::Array(problems.clone())), [1], "the table that is not made yet: {problems:?}");
    let definition = client.at("definition", (1, 15));
    assert_eq!(definition["uri"], format!("{uri}/wet%20beds/tables.sql"));
    assert_eq!(definition["range"]["start"], json!({"line": 1, "character": 13}));
    let references = client.at("references", (1, 15));
    assert_eq!(lines(&references), [1, 1, 2]);
    let target = json!({"uri": URI, "position": {"line": 0, "character": 0}});
    let answer = client.ask("workspace/executeCommand", json!({"command": "garden-gate.run", "arguments": [target]}));
    assert!(answer["text"].as_str().unwrap().contains("name\n────\nMoss\n1 row"), "{answer}");
    // An editor that opens no documents is told where the text is.
    let message = client.hear("window/showMessage");
    assert!(Path::new(message["message"].as_str().unwrap().strip_prefix("Run is in ").unwrap()).is_file());

    // What is wrong with the file is said, and the server goes on without tables; then with others.
    let changed = json!({"changes": [{"uri": format!("{uri}/garden-gate.toml"), "type": 2}]});
    for (file, wrong, said) in [
        ("data = ['dry beds']", 2, true),
        ("dato = 1", 2, true),
        ("database = 'new.db'\ndata = ['wet beds']", 1, false),
    ] {
        write("garden-gate.toml", file);
        client.tell("workspace/didChangeWatchedFiles", changed.clone());
        if said {
            let message = client.hear("window/showMessage");
            assert_eq!(message["type"], 1, "{message}");
        }
        // The problems of before may still be on their way.
        while client.hear("textDocument/publishDiagnostics")["diagnostics"].as_array().unwrap().len() != wrong {}
    }
    assert!(root.join("new.db").is_file());
    client.leave();
}

/// Numbers that look drawn, and are the same in each run.
struct Draw(u64);

impl Draw {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % most.max(1)
    }
}

/// The statements of the demo: its checks' and its script's.
fn demo_queries() -> Vec<String> {
    let read = |name: &str| fs::read_to_string(crate::tool::root().join(name)).unwrap();
    let checks = read("demo/checks/garden.check.toml");
    let of_checks = checks.split("sql = \"").skip(1).filter_map(|part| Some(part.split_once("\"\n")?.0.to_owned()));
    let script = read("demo/time.sql");
    let queries: Vec<String> = of_checks.chain(script.split_inclusive(';').map(str::to_owned)).collect();
    assert!(queries.len() > 10);
    queries
}

/// Texts cut and changed anywhere: each gets an answer about itself, never about the one before.
#[test]
fn broken_texts_get_answers() {
    let mut client = Client::start();
    let queries = demo_queries();
    let mut draw = Draw(1);
    let (mut wrong, mut asked) = (0, 0);
    for number in 0..2000 {
        let text: Vec<char> = queries[number % queries.len()].chars().collect();
        let (from, cut) = (draw.below(text.len()), draw.below(4));
        let sign = ["'", "\"", "(", ")", ";", "\n", "*", " ä𝄞 ", "", "/*", ":", "SELECT", ","][draw.below(13)];
        let rest = text.get(from + cut..).unwrap_or_default();
        let changed: String = text[..from].iter().copied().chain(sign.chars()).chain(rest.iter().copied()).collect();
        let problems = client.text(&changed);
        wrong += usize::from(!problems.is_empty());
        let end = changed.matches('\n').count() as u64;
        for problem in &problems {
            assert!(problem["range"]["end"]["line"].as_u64().unwrap() <= end, "{changed}\n{problem}");
        }
        if number % 10 == 0 {
            let line = u32::try_from(text[..from].iter().filter(|c| **c == '\n').count()).unwrap();
            let place = (line, u32::try_from(draw.below(60)).unwrap());
            let methods = ["completion", "hover", "definition", "references"];
            methods.iter().for_each(|method| drop(client.at(method, place)));
            let methods = ["codeLens", "inlayHint", "documentSymbol", "formatting", "codeAction"];
            drop(client.of_text(methods[draw.below(5)]));
            asked += 1;
        }
    }
    assert!((500..2000).contains(&wrong) && asked == 200, "{wrong}");
    let unknown = json!({"id": 9999, "method": "textDocument/unheardOf", "params": {}});
    client.send(unknown);
    assert_eq!(client.receive()["error"]["code"], -32601);
    client.leave();
}
