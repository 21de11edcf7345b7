//! The language server, driven by a client's messages.

#![expect(clippy::needless_pass_by_value, reason = "parameters are written where they are sent")]

use crate::tool::command;
use serde_json::{Value as Json, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout, Stdio};

const URI: &str = "file:///garden/query.sql";

struct Client {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    sent: i64,
}

impl Client {
    fn start() -> Self {
        let mut child = command(&["language-server", "--data", "demo/data"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (input, output) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        let mut client = Self { child, input, output, sent: 0 };
        let answer = client.ask("initialize", json!({"capabilities": {}}));
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

    fn ask(&mut self, method: &str, params: Json) -> Json {
        self.sent += 1;
        self.send(json!({"id": self.sent, "method": method, "params": params}));
        let answer = self.receive();
        assert_eq!(answer["id"], self.sent, "{answer}");
        assert!(answer.get("error").is_none(), "{answer}");
        answer["result"].clone()
    }

    /// Opens or changes the text, and gives what is wrong with it.
    fn text(&mut self, text: &str) -> Vec<Json> {
        let (method, params) = match self.sent {
            1 => ("didOpen", json!({"textDocument": {"uri": URI, "languageId": "sql", "version": 1, "text": text}})),
            _ => ("didChange", json!({"textDocument": {"uri": URI, "version": 2}, "contentChanges": [{"text": text}]})),
        };
        self.tell(&format!("textDocument/{method}"), params);
        let published = self.receive();
        assert_eq!(published["method"], "textDocument/publishDiagnostics");
        published["params"]["diagnostics"].as_array().unwrap().clone()
    }

    /// Asks about a place of the text.
    fn at(&mut self, method: &str, (line, character): (u32, u32)) -> Json {
        let place = json!({"textDocument": {"uri": URI}, "position": {"line": line, "character": character}});
        self.ask(&format!("textDocument/{method}"), place)
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

    let actions = client.ask(
        "textDocument/codeAction",
        json!({"textDocument": {"uri": URI}, "range": problems[0]["range"], "context": {"diagnostics": []}}),
    );
    assert_eq!(actions[0]["title"], "write name");
    assert_eq!(actions[0]["edit"]["changes"][URI][0]["newText"], "name");

    let hover = client.at("hover", (1, 21));
    assert_eq!(hover["contents"]["value"], "column **name**: VARCHAR");
    let definition = client.at("definition", (2, 18));
    assert_eq!(definition["range"]["start"], json!({"line": 1, "character": 5}));
    let place = json!({"textDocument": {"uri": URI}, "position": {"line": 1, "character": 6}, "context": {"includeDeclaration": true}});
    let references = client.ask("textDocument/references", place);
    let lines: Vec<u64> =
        references.as_array().unwrap().iter().filter_map(|one| one["range"]["start"]["line"].as_u64()).collect();
    assert_eq!(lines, [1, 2], "{references}");
    let symbols = client.ask("textDocument/documentSymbol", json!({"textDocument": {"uri": URI}}));
    assert_eq!(symbols[0]["children"][0]["name"], "dark");
    let edits = client.ask(
        "textDocument/formatting",
        json!({"textDocument": {"uri": URI}, "options": {"tabSize": 2, "insertSpaces": true}}),
    );
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

/// Texts cut and changed anywhere: each gets an answer about itself.
#[test]
fn broken_texts_get_answers() {
    let mut client = Client::start();
    let text = "WITH w AS (SELECT name, 'ä𝄞' AS t FROM bed WHERE sun IN ('shade', 'full sun'))\nSELECT w.name, COUNT(*) FROM w GROUP BY w.name;";
    client.text(text);
    let characters: Vec<char> = text.chars().collect();
    for at in 0..characters.len() {
        let (before, after) = characters.split_at(at);
        let sign = ['\'', '"', '(', ')', ';', '\n', '*'][at % 7];
        let changed: String = before.iter().chain(&[sign]).chain(&after[(at % 3).min(after.len())..]).collect();
        let problems = client.text(&changed);
        let lines = changed.matches('\n').count() as u64;
        assert!(problems.iter().all(|problem| problem["range"]["end"]["line"].as_u64().unwrap() <= lines), "{changed}");
        let line = u32::from(before.contains(&'\n'));
        client.at("completion", (line, u32::try_from(at % 60).unwrap()));
        client.at("hover", (line, u32::try_from(at % 60).unwrap()));
    }
    let unknown = json!({"id": 9999, "method": "textDocument/unheardOf", "params": {}});
    client.send(unknown);
    assert_eq!(client.receive()["error"]["code"], -32601);
    client.leave();
}
