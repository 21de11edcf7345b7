//! What can be asked, and who answers it.

use super::document::Document;
use super::lenses::{Action, Target, lenses};
use super::runner::Job;
use super::{Server, answers, names, workspace};
use lsp_server::{ErrorCode, Request, RequestId, Response};
use lsp_types::notification::{DidChangeWatchedFiles, Notification as _};
use lsp_types::request::{
    CodeActionRequest, CodeLensRequest, Completion, DocumentSymbolRequest, ExecuteCommand, Formatting, GotoDefinition,
    HoverRequest, InlayHintRequest, References, RegisterCapability, Request as _,
};
use lsp_types::{
    CodeActionParams, CodeLensOptions, CodeLensParams, CompletionOptions, CompletionParams,
    DidChangeWatchedFilesRegistrationOptions, DocumentFormattingParams, DocumentSymbolParams, ExecuteCommandOptions,
    ExecuteCommandParams, FileSystemWatcher, GlobPattern, GotoDefinitionParams, HoverParams, InlayHintParams, OneOf,
    ReferenceParams, Registration, RegistrationParams, SaveOptions, ServerCapabilities, TextDocumentSyncCapability,
    TextDocumentSyncKind, TextDocumentSyncOptions, TextDocumentSyncSaveOptions, Uri,
};
use serde_json::Value as Json;

/// Parameters about one text.
trait OfDocument {
    fn document(&self) -> &Uri;
}

macro_rules! of_document {
    ($($params:ty: $($field:ident).+;)+) => {
        $(impl OfDocument for $params {
            fn document(&self) -> &Uri {
                &self.$($field).+.uri
            }
        })+
    };
}

of_document! {
    CompletionParams: text_document_position.text_document;
    HoverParams: text_document_position_params.text_document;
    GotoDefinitionParams: text_document_position_params.text_document;
    DocumentSymbolParams: text_document;
    DocumentFormattingParams: text_document;
    CodeActionParams: text_document;
    ReferenceParams: text_document_position.text_document;
    CodeLensParams: text_document;
    InlayHintParams: text_document;
}

/// What the server can do.
pub(super) fn capabilities() -> ServerCapabilities {
    let triggers = [".", "'", ":"].map(str::to_owned).to_vec();
    let sync = TextDocumentSyncOptions {
        open_close: Some(true),
        change: Some(TextDocumentSyncKind::FULL),
        save: Some(TextDocumentSyncSaveOptions::SaveOptions(SaveOptions { include_text: Some(false) })),
        ..Default::default()
    };
    let commands = Action::ALL.map(|action| action.command().to_owned()).to_vec();
    ServerCapabilities {
        text_document_sync: Some(TextDocumentSyncCapability::Options(sync)),
        completion_provider: Some(CompletionOptions { trigger_characters: Some(triggers), ..Default::default() }),
        hover_provider: Some(true.into()),
        definition_provider: Some(OneOf::Left(true)),
        references_provider: Some(OneOf::Left(true)),
        document_symbol_provider: Some(OneOf::Left(true)),
        document_formatting_provider: Some(OneOf::Left(true)),
        code_action_provider: Some(true.into()),
        code_lens_provider: Some(CodeLensOptions { resolve_provider: Some(false) }),
        inlay_hint_provider: Some(OneOf::Left(true)),
        execute_command_provider: Some(ExecuteCommandOptions { commands, ..Default::default() }),
        ..Default::default()
    }
}

/// Asks the editor to say when the file of the workspace changes.
pub(super) fn watch() -> Request {
    let glob_pattern = GlobPattern::String(format!("**/{}", workspace::FILE));
    let watchers = vec![FileSystemWatcher { glob_pattern, kind: None }];
    let options = DidChangeWatchedFilesRegistrationOptions { watchers };
    let registration = Registration {
        id: "workspace file".into(),
        method: DidChangeWatchedFiles::METHOD.into(),
        register_options: serde_json::to_value(options).ok(),
    };
    let params = RegistrationParams { registrations: vec![registration] };
    Request::new(RequestId::from("watch".to_owned()), RegisterCapability::METHOD.into(), params)
}

impl Server<'_> {
    /// The answer to a request; nothing when it comes later.
    pub(super) fn answer(&mut self, Request { id, method, params }: Request) -> Option<Response> {
        let texts = (&self.documents, &self.workspace);
        let answers = &mut self.answers;
        let about = |params| About { documents: &self.documents, params };
        let answer = match method.as_str() {
            Completion::METHOD => about(params).ask(|text, params| answers.completions(text, params)),
            HoverRequest::METHOD => about(params).ask(|text, params| answers.hover(text, params)),
            GotoDefinition::METHOD => about(params).ask(|text, params| names::definition(texts, text, params)),
            References::METHOD => about(params).ask(|text, params| names::references(texts, text, params)),
            DocumentSymbolRequest::METHOD => about(params).ask(names::symbols),
            Formatting::METHOD => about(params).ask(answers::formatting),
            CodeActionRequest::METHOD => about(params).ask(|text, params| answers.actions(text, params)),
            CodeLensRequest::METHOD => about(params).ask(lenses),
            InlayHintRequest::METHOD => {
                about(params).ask(|text, params| answers.estimates.hints(&mut answers.session, text, params))
            }
            ExecuteCommand::METHOD => return self.execute(id, params),
            _ => {
                return Some(Response::new_err(id, ErrorCode::MethodNotFound as i32, format!("{method} is not known")));
            }
        };
        Some(match answer {
            Ok(found) => Response::new_ok(id, found),
            Err(error) => Response::new_err(id, ErrorCode::InvalidParams as i32, error.to_string()),
        })
    }

    /// Hands a statement or step to the thread that runs it; at once there is an answer only when that cannot be done.
    fn execute(&self, id: RequestId, params: Json) -> Option<Response> {
        match self.job(id.clone(), params) {
            Ok(job) => {
                self.runner.as_ref()?.run(job);
                None
            }
            Err(message) => Some(Response::new_err(id, ErrorCode::InvalidParams as i32, message)),
        }
    }

    fn job(&self, id: RequestId, params: Json) -> Result<Job, String> {
        let params: ExecuteCommandParams = serde_json::from_value(params).map_err(|error| error.to_string())?;
        let unknown = || format!("{} is not known", params.command);
        let action = Action::of_command(&params.command).ok_or_else(unknown)?;
        let argument = params.arguments.into_iter().next().ok_or("a command takes the place of a statement")?;
        let target: Target = serde_json::from_value(argument).map_err(|error| error.to_string())?;
        let document = self.documents.get(target.uri.as_str()).ok_or("the text is not open")?;
        if self.runner.is_none() {
            return Err("the tables of the workspace cannot be opened".into());
        }
        let statement =
            document.statement(document.byte(target.position)).ok_or("there is no statement at this place")?;
        let statement = document.text[statement.span.range()].to_owned();
        Ok(Job { id, action, statement, step: target.step })
    }
}

/// A request about an open text.
struct About<'s> {
    documents: &'s super::Documents,
    params: Json,
}

impl About<'_> {
    /// The answer about the text that the parameters name; nothing when it is not open.
    fn ask<P: serde::de::DeserializeOwned + OfDocument, A: serde::Serialize>(
        self,
        ask: impl FnOnce(&Document, &P) -> Option<A>,
    ) -> serde_json::Result<Json> {
        let params: P = serde_json::from_value(self.params)?;
        let found = self.documents.get(params.document().as_str()).and_then(|document| ask(document, &params));
        serde_json::to_value(found)
    }
}
