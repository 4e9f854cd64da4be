import type { FilesOptions, UploadOptions } from './upload-options.js';
import type { KeptUpload } from '../storage/storage.js';
import type { StoreAccess } from '../store-access.js';
import type { TypedDocument } from '../views/view.js';

interface Answer {
  status: number;
  text: string;
}

interface Sending {
  onProgress?: UploadOptions['onProgress'] | undefined;
  signal?: AbortSignal | undefined;
}

const RETRY_MS = 1000;

/** Larger files are not kept over a restart, in bytes. */
const MOST_KEPT_BYTES = 100_000_000;

/** Keeps a file where that can be done, and sends it until it has arrived, or is refused. */
export async function upload(
  files: FilesOptions,
  key: string,
  id: string,
  content: Blob,
  { onProgress, signal, ...options }: UploadOptions,
): Promise<TypedDocument> {
  const { storage, waiting } = files;
  const { name = (content as { name?: string }).name, type = content.type, data } = options;
  const file: KeptUpload = { key, id, content, name, type, data };
  waiting.set(file.key, file);
  // What cannot be kept, for want of room for example, is sent all the same.
  if (content.size <= MOST_KEPT_BYTES) await storage.putUpload?.(file).catch(() => undefined);
  let description: TypedDocument | undefined;
  await inTurn(files, file, async () => {
    description = await settle(files, file, () => send(files, file, { onProgress, signal }));
  });
  return description!;
}

/** Sends the files that earlier clients have kept. */
export async function resumeUploads(files: FilesOptions): Promise<void> {
  const { storage, waiting, Refused, onRefused } = files;
  for (const file of await keptUploads(files)) {
    if (waiting.has(file.key)) continue;
    waiting.set(file.key, file);
    inTurn(files, file, async () => {
      // Another client may have sent it meanwhile.
      const kept = await storage.uploads!();
      if (kept.some(({ key }) => key === file.key)) await settle(files, file, () => send(files, file, {}));
      else waiting.delete(file.key);
    }).catch((error: unknown) => {
      if (!(error instanceof Refused)) return;
      if (onRefused) onRefused({ id: file.id, problem: error.problem });
      else console.error(`The file ${file.id} was refused: ${error.message}`);
    });
  }
}

/** The files that have not arrived yet. */
export async function pendingUploads(files: FilesOptions): Promise<KeptUpload[]> {
  const pending = new Map([...(await keptUploads(files)), ...files.waiting.values()].map((file) => [file.key, file]));
  return [...pending.values()].sort((a, b) => (a.key < b.key ? -1 : 1));
}

async function keptUploads({ storage }: FilesOptions): Promise<KeptUpload[]> {
  return (await storage.uploads?.()) ?? [];
}

/** Files of one id go one after the other, whichever client sends them. */
function inTurn({ storage, turns }: FilesOptions, { id }: KeptUpload, act: () => Promise<void>): Promise<void> {
  if (storage.alone) return storage.alone(`upload/${id}`, act);
  const turn = (turns.get(id) ?? Promise.resolve()).then(act);
  const over = turn
    .catch(() => undefined)
    .finally(() => {
      if (turns.get(id) === over) turns.delete(id);
    });
  turns.set(id, over);
  return turn;
}

/** Removes a file from the storage after it has arrived, was refused or aborted; unless the store is closed first. */
async function settle<Result>(
  { store, storage, waiting }: FilesOptions,
  { key }: KeptUpload,
  act: () => Promise<Result>,
): Promise<Result> {
  try {
    return await act();
  } finally {
    waiting.delete(key);
    if (store.state.name !== 'closed') await storage.removeUpload?.(key).catch(() => undefined);
  }
}

/** Sends a file until it has arrived, or is refused. */
async function send(
  { store, headers, Refused }: FilesOptions,
  { id, content, name, type, data }: KeptUpload,
  options: Sending,
): Promise<TypedDocument> {
  const { signal } = options;
  const parameters = new URLSearchParams({
    ...(name === undefined ? {} : { name }),
    ...(data === undefined ? {} : { data: JSON.stringify(data) }),
  });
  const url = `${store.url}/v1/files/${id}/content?${parameters.toString()}`;
  for (;;) {
    await online(store, signal);
    let answer: Answer | undefined;
    try {
      const sent = { ...(await headers()), 'content-type': type || 'application/octet-stream' };
      answer = await (typeof XMLHttpRequest === 'undefined' ? byFetch : byRequest)(url, sent, content, options);
    } catch (error) {
      if (signal?.aborted) throw error;
    }
    if (answer && answer.status < 300) return JSON.parse(answer.text) as TypedDocument;
    // A service that stops or has too much to do takes it later.
    if (answer && ![429, 503].includes(answer.status) && answer.text.startsWith('{')) {
      throw new Refused(JSON.parse(answer.text));
    }
    await new Promise((resolve) => setTimeout(resolve, RETRY_MS));
  }
}

/** Gets an address of a content that is good without a key. */
export async function link(store: StoreAccess, id: string, seconds?: number): Promise<string> {
  const { url } = await store.post<{ url: string }>(`/v1/files/${id}/link`, seconds === undefined ? {} : { seconds });
  return store.url + url;
}

/** Waits for a connection. */
function online(store: StoreAccess, signal: AbortSignal | undefined): Promise<void> {
  return new Promise((resolve, reject) => {
    let stop = () => {};
    const over = () => queueMicrotask(() => stop());
    signal?.addEventListener('abort', () => {
      over();
      reject(signal.reason as Error);
    });
    signal?.throwIfAborted();
    stop = store.subscribe(({ name }) => {
      if (name === 'online') resolve();
      else if (name === 'closed') reject(new Error('The store was closed.'));
      else return;
      over();
    });
  });
}

/** Uploads with XMLHttpRequest, which reports progress. */
function byRequest(
  url: string,
  headers: Record<string, string>,
  content: Blob,
  { onProgress, signal }: Sending,
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open('PUT', url);
    for (const [name, value] of Object.entries(headers)) request.setRequestHeader(name, value);
    request.upload.onprogress = ({ loaded }) => onProgress?.(loaded, content.size);
    request.onload = () => resolve({ status: request.status, text: request.responseText });
    request.onerror = request.onabort = () => reject(new Error('The upload was interrupted.'));
    signal?.addEventListener('abort', () => request.abort());
    request.send(content);
  });
}

async function byFetch(
  url: string,
  headers: Record<string, string>,
  content: Blob,
  { onProgress, signal }: Sending,
): Promise<Answer> {
  let sent = 0;
  const counted = content.stream().pipeThrough(
    new TransformStream<Uint8Array, Uint8Array>({
      transform(chunk, controller) {
        sent += chunk.length;
        onProgress?.(sent, content.size);
        controller.enqueue(chunk);
      },
    }),
  );
  const init = { method: 'PUT', headers, body: counted, duplex: 'half', signal: signal ?? null };
  const response = await fetch(url, init as RequestInit);
  return { status: response.status, text: await response.text() };
}
