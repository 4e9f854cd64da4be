import type { ProblemError } from '@uproar/protocol/problem-error';
import type { UploadOptions } from './files.js';
import type { Store } from './store.js';
import type { TypedDocument } from './view.js';

interface Answer {
  status: number;
  text: string;
}

const RETRY_MS = 1000;

/** Sends a file until it has arrived, or is refused. */
export async function send(
  store: Store,
  headers: () => Promise<Record<string, string>>,
  Refused: typeof ProblemError,
  id: string,
  content: Blob,
  options: UploadOptions,
): Promise<TypedDocument> {
  const { name = (content as { name?: string }).name, type = content.type, data, signal } = options;
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
    if (answer && ![429, 503].includes(answer.status) && answer.text.startsWith('{'))
      throw new Refused(JSON.parse(answer.text));
    await new Promise((resolve) => setTimeout(resolve, RETRY_MS));
  }
}

/** Gets an address of a content that is good without a key. */
export async function link(store: Store, id: string, seconds?: number): Promise<string> {
  const { url } = await store.post<{ url: string }>(`/v1/files/${id}/link`, seconds === undefined ? {} : { seconds });
  return store.url + url;
}

/** Waits for a connection. */
function online(store: Store, signal: AbortSignal | undefined): Promise<void> {
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

/** As a browser sends it, which tells how far it is. */
function byRequest(
  url: string,
  headers: Record<string, string>,
  content: Blob,
  { onProgress, signal }: UploadOptions,
): Promise<Answer> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open('PUT', url);
    for (const [name, value] of Object.entries(headers)) request.setRequestHeader(name, value);
    request.upload.onprogress = ({ loaded }) => onProgress?.(loaded, content.size);
    request.onload = () => resolve({ status: request.status, text: request.responseText });
    request.onerror = request.onabort = () => reject(new Error('The upload was cut off.'));
    signal?.addEventListener('abort', () => request.abort());
    request.send(content);
  });
}

async function byFetch(
  url: string,
  headers: Record<string, string>,
  content: Blob,
  { onProgress, signal }: UploadOptions,
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
