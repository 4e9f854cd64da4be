import { Component, DestroyRef, inject, provideZonelessChangeDetection, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { bootstrapApplication } from '@angular/platform-browser';
import { from, Observable } from 'rxjs';
import type { ConnectionState, TypedDocument } from '@uproar/client';
import { checks, store, type Check } from './store.js';

@Component({
  selector: 'app-checks',
  template: `
    <h1>Before the start</h1>
    <p>{{ connection()?.name }}{{ connection() && store.pending > 0 ? ', ' + store.pending + ' waiting' : '' }}</p>

    <form (submit)="add($event, input.value); input.value = ''">
      <input #input aria-label="New check" />
      <button>Add</button>
    </form>

    @if (refused() || view().error?.title; as message) {
      <p role="alert">{{ message }}</p>
    }

    <ul>
      @for (check of view().documents; track check.id) {
        <li [class.pending]="view().pending.has(check.id)">
          <label>
            <input type="checkbox" [checked]="check.data.done" (change)="toggle(check)" />
            {{ check.data.text }}
          </label>
          <button (click)="remove(check)" [attr.aria-label]="'Delete ' + check.data.text">×</button>
        </li>
      }
    </ul>
  `,
})
class Checks {
  readonly store = store;
  readonly refused = signal('');
  readonly #watch = checks.order('text').limit(100).watch();
  // A watch is an observable, and has a first value.
  readonly view = toSignal(from(this.#watch), { initialValue: this.#watch.current });
  readonly connection = toSignal(
    new Observable<ConnectionState>((subscriber) => store.subscribe((state) => subscriber.next({ ...state }))),
  );

  constructor() {
    inject(DestroyRef).onDestroy(() => this.#watch.close());
  }

  add(event: Event, text: string): void {
    event.preventDefault();
    this.#report(checks.create({ text, done: false }));
  }

  toggle({ id, data }: TypedDocument<Check>): void {
    this.#report(checks.merge(id, { done: !data.done }));
  }

  remove({ id }: TypedDocument<Check>): void {
    this.#report(checks.delete(id));
  }

  /** Shows why the store refused a write. The view has undone it by then. */
  #report(write: Promise<unknown>): void {
    this.refused.set('');
    write.catch((error: Error) => this.refused.set(error.message));
  }
}

void bootstrapApplication(Checks, { providers: [provideZonelessChangeDetection()] });
