import type { Page } from 'playwright-core';
import type { Random } from '../../../../test/random.js';
import { Ledger } from './ledger.js';

/** A step that takes longer than this is given up; the rows move, so that a click may miss. */
const STEP_MS = 4000;

/** A person who works with documents in one tab of the console, at random. */
export class RandomUser {
  readonly ledger: Ledger;
  /** How often each thing was done to its end, and how often it could not be begun. */
  readonly done = new Map<string, number>();
  readonly missed = new Map<string, number>();
  /** What contradicts the promises of the console. */
  readonly faults: string[] = [];

  constructor(
    private readonly page: Page,
    private readonly random: Random,
    name: string,
    private readonly collections: readonly string[],
  ) {
    this.ledger = new Ledger(name);
  }

  /** Works until a time, and until a number of edits was begun, but at most until `latest`. */
  async act(until: number, edits = 0, latest = until): Promise<void> {
    const acts: [weight: number, name: string, act: () => Promise<boolean>][] = [
      [10, 'edit a cell', () => this.#editCell()],
      [6, 'edit a document as a form', () => this.#editForm()],
      [4, 'edit a document as JSON', () => this.#editJson()],
      [3, 'type a condition and order by a head', () => this.#typeCondition()],
      [2, 'delete and undo', () => this.#deleteAndUndo()],
      [2, 'undo an edit', () => this.#undoEdit()],
      [3, 'scroll', () => this.#scroll()],
      [2, 'hold still and go on', () => this.#hold()],
      [3, 'go to another collection', () => this.#changeCollection()],
      [2, 'look at another page and come back', () => this.#visit()],
      [1, 'reload', () => this.#reload()],
    ];
    const total = acts.reduce((sum, [weight]) => sum + weight, 0);
    const goesOn = () => Date.now() < until || (this.ledger.entries.length < edits && Date.now() < latest);
    while (goesOn() && this.faults.length === 0) {
      let at = this.random.integer(1, total);
      const [, name, act] = acts.find(([weight]) => (at -= weight) <= 0)!;
      // A step that cannot be taken, because what it is about has moved away, is no fault.
      const went = await act().catch((error: unknown) => {
        if (!String(error).includes('Timeout')) throw error;
        return false;
      });
      const counts = went ? this.done : this.missed;
      counts.set(name, (counts.get(name) ?? 0) + 1);
    }
  }

  get #speed(): number {
    return this.random.integer(30, 110);
  }

  get #collection(): string {
    return new URL(this.page.url()).pathname.split('/')[3] ?? '';
  }

  async #type(text: string): Promise<void> {
    await this.page.keyboard.type(text, { delay: this.#speed });
  }

  /** The element with the focus: its label and its text. */
  #focus(): Promise<{ label: string; text: string; editor: boolean }> {
    return this.page.evaluate(() => {
      const element = document.activeElement as HTMLInputElement | null;
      return {
        label: element?.getAttribute('aria-label') ?? element?.id ?? '',
        text: element?.value ?? element?.textContent ?? '',
        editor: element?.closest('.editor') !== null && element?.tagName === 'INPUT',
      };
    });
  }

  async #leaveDrawer(): Promise<void> {
    const close = this.page.locator('.ant-drawer-open .ant-drawer-close');
    if ((await close.count()) > 0) await close.first().click({ timeout: STEP_MS });
    await this.page.locator('.ant-drawer-open').waitFor({ state: 'detached', timeout: STEP_MS });
  }

  /** The ids of rows in sight, below the head. */
  #rows(): Promise<string[]> {
    return this.page.locator('[data-row]').evaluateAll((rows) =>
      rows
        .filter((row) => {
          const { top, bottom } = row.getBoundingClientRect();
          const area = row.closest('[role=grid]')?.getBoundingClientRect();
          return area && top > area.top + 30 && bottom < area.bottom - 30;
        })
        .map((row) => (row as HTMLElement).dataset.row!),
    );
  }

  async #openCell(): Promise<{ address: string; numeric: boolean } | undefined> {
    const rows = await this.#rows();
    if (rows.length === 0) return undefined;
    const row = this.page.locator(`[data-row="${this.random.pick(rows)}"]`);
    const fields = await row
      .locator('[data-field]')
      .evaluateAll((cells) =>
        cells
          .filter((cell) => /string|number/.test(cell.className) && cell.getBoundingClientRect().right < innerWidth)
          .map((cell) => (cell as HTMLElement).dataset.field!),
      );
    if (fields.length === 0) return undefined;
    const field = this.random.pick(fields);
    // An edit that could not be saved goes on when its cell is opened again.
    const unsaved = await this.page.locator('.unsaved .typed').allTextContents();
    await row.locator(`[data-field="${field}"]`).dblclick({ timeout: STEP_MS });
    await this.page.waitForTimeout(60);
    const focus = await this.#focus();
    const id = / of (\S+)$/.exec(focus.label)?.[1];
    // The row may have moved away under the mouse; then another cell, or none, is being edited.
    if (!focus.editor || id === undefined) return undefined;
    const numeric = /^-?[\d.]+$/.test(focus.text);
    if (unsaved.includes(focus.text)) this.ledger.replaced(focus.text);
    return { address: `${this.#collection}/${id}`, numeric };
  }

  async #editCell(): Promise<boolean> {
    const cell = await this.#openCell();
    if (!cell) return false;
    const token = cell.numeric ? this.ledger.number() : this.ledger.token();
    const label = (await this.#focus()).label;
    await this.page.keyboard.press('Control+A');
    await this.#type(token);
    if (this.random.chance(0.3)) {
      await this.page.mouse.move(640, 400);
      await this.page.mouse.wheel(0, this.random.pick([-700, 400, 1500]));
      await this.page.waitForTimeout(100);
    }
    const focus = await this.#focus();
    if (focus.label !== label || focus.text !== token) {
      this.faults.push(`Typed ${token} into ${label}; in ${focus.label || 'nothing'} stands “${focus.text}”.`);
      return true;
    }
    const end = this.random.pick(['Enter', 'Enter', 'Tab', 'Shift+Tab', 'click', 'another', 'Escape', 'page', 'order']);
    if (end !== 'Escape') {
      this.ledger.note({ token, address: cell.address, meant: 'saved', how: `cell left by ${end}` });
    }
    if (end === 'click') await this.page.locator('main h1').click();
    else if (end === 'another') await this.#openCell().then((next) => next && this.page.keyboard.press('Escape'));
    else if (end === 'page') await this.#visit();
    else if (end === 'order') await this.#order();
    else await this.page.keyboard.press(end);
    return true;
  }

  async #openDocument(): Promise<string | undefined> {
    const rows = await this.#rows();
    if (rows.length === 0) return undefined;
    const id = this.random.pick(rows);
    const { pathname } = new URL(this.page.url());
    const collection = this.#collection;
    if (this.random.chance(0.5)) {
      await this.page.locator(`[data-row="${id}"] [data-cell="id"]`).click({ timeout: STEP_MS });
    } else {
      await this.page.keyboard.press('Control+k');
      await this.page.locator('input[role=combobox]').fill(`${collection}/${id}`, { timeout: STEP_MS });
      await this.page.keyboard.press('Enter');
    }
    await this.page.waitForURL((url) => url.pathname !== pathname, { timeout: STEP_MS });
    await this.page.locator('.ant-drawer .mode').waitFor({ timeout: STEP_MS });
    return new URL(this.page.url()).pathname.split('/').slice(3, 5).join('/');
  }

  async #editForm(): Promise<boolean> {
    const address = await this.#openDocument();
    if (address === undefined) return false;
    await this.page.locator('.ant-drawer .mode').getByText('Form', { exact: true }).click({ timeout: STEP_MS });
    const inputs = this.page.locator('.ant-drawer .form textarea');
    await inputs.first().waitFor({ timeout: STEP_MS });
    const input = inputs.nth(this.random.integer(0, (await inputs.count()) - 1));
    await input.click({ timeout: STEP_MS });
    await this.page.keyboard.press('Control+End');
    const token = this.random.chance(0.2) ? `${this.ledger.token()} ${'long '.repeat(14)}` : this.ledger.token();
    await this.#type(token);
    if (!(await input.inputValue()).includes(token)) {
      this.faults.push(`Typed ${token} into the form of ${address}; there stands “${await input.inputValue()}”.`);
    }
    return this.#endEdit(address, token.split(' ')[0]!, 'form');
  }

  async #editJson(): Promise<boolean> {
    const address = await this.#openDocument();
    if (address === undefined) return false;
    await this.page.locator('.ant-drawer .mode').getByText('JSON', { exact: true }).click({ timeout: STEP_MS });
    const editor = this.page.getByLabel('Data of the document as JSON');
    await editor.click({ timeout: STEP_MS });
    await this.page.keyboard.press('Control+Home');
    await this.page.keyboard.press('ArrowRight');
    const token = this.ledger.token();
    await this.#type(`"remark":"${token}",`);
    const text = await editor.innerText();
    if (!text.includes(`"remark":"${token}",`)) this.faults.push(`Typed ${token} as JSON of ${address}: ${text}`);
    return this.#endEdit(address, token, 'JSON');
  }

  /** Saves the edit in the drawer, keeps it, or discards it. */
  async #endEdit(address: string, token: string, how: string): Promise<boolean> {
    const drawer = this.page.locator('.ant-drawer-open');
    const end = this.random.pick(['save', 'save', 'leave', 'discard', 'reload']);
    this.ledger.note({ token, address, meant: 'kept', how: `${how}, ${end}` });
    if (end === 'discard') {
      await drawer.getByRole('button', { name: 'Discard changes' }).last().click({ timeout: STEP_MS });
      this.ledger.discarded(address);
    } else if (end === 'save') {
      const save = drawer.getByRole('button', { name: 'Save', exact: true });
      // With a conflict it cannot be saved before that is settled; it stays a draft then.
      if (await save.isEnabled()) await save.click({ timeout: STEP_MS }).catch(() => undefined);
      await this.page.waitForTimeout(this.random.pick([0, 50, 400]));
    } else if (end === 'reload') await this.#reload();
    await this.#leaveDrawer();
    return true;
  }

  async #typeCondition(): Promise<boolean> {
    const condition = this.page.getByLabel('where', { exact: true });
    await condition.click({ timeout: STEP_MS });
    const before = (await condition.textContent()) ?? '';
    await this.page.keyboard.press('Control+End');
    const token = `zz${this.ledger.token()}`;
    await this.#type(` ${token}`);
    await this.page.keyboard.press('Escape');
    await this.#order();
    await this.page.waitForTimeout(200);
    const after = (await condition.textContent()) ?? '';
    if (!after.includes(token)) this.faults.push(`The condition “${before} ${token}” became “${after}”.`);
    await this.page.getByRole('button', { name: 'Reset' }).click({ timeout: STEP_MS });
    return true;
  }

  /** Clicks a column head. */
  async #order(): Promise<void> {
    const heads = this.page.locator('[role=columnheader] button.name');
    const count = Math.min(4, await heads.count());
    if (count > 0) await heads.nth(this.random.integer(0, count - 1)).click({ timeout: STEP_MS });
  }

  async #deleteAndUndo(): Promise<boolean> {
    if (this.#collection !== 'notes') await this.#goTo('notes');
    const rows = (await this.#rows()).slice(0, 12);
    if (rows.length < 4) return false;
    for (const id of rows.slice(0, this.random.integer(1, 4))) {
      await this.page.getByLabel(`Select ${id}`, { exact: true }).click({ timeout: STEP_MS });
    }
    await this.page.getByRole('toolbar').getByRole('button', { name: 'Delete' }).click({ timeout: STEP_MS });
    const sure = this.page.getByRole('tooltip').getByRole('button', { name: 'Delete' });
    await sure.click({ timeout: STEP_MS });
    const undo = this.page.locator('.ant-notification-notice').filter({ hasText: 'Deleted' }).last();
    await undo.getByRole('button', { name: 'Undo' }).click({ timeout: STEP_MS });
    const message = this.page.locator('.ant-notification-notice').filter({ hasText: /Restored|Not restored/ });
    await message.first().waitFor({ timeout: STEP_MS });
    const none = this.page.getByRole('button', { name: 'Clear selection' });
    if (await none.isVisible()) await none.click({ timeout: STEP_MS });
    return true;
  }

  async #undoEdit(): Promise<boolean> {
    const rows = await this.#rows();
    if (rows.length === 0) return false;
    await this.page
      .locator(`[data-row="${this.random.pick(rows)}"] [data-field]`)
      .first()
      .click({ timeout: STEP_MS });
    await this.page.keyboard.press('Control+z');
    return true;
  }

  async #scroll(): Promise<boolean> {
    await this.page.mouse.move(640, 400);
    await this.page.mouse.wheel(0, this.random.pick([-3000, -500, 500, 3000]));
    await this.page.waitForTimeout(80);
    return true;
  }

  async #hold(): Promise<boolean> {
    const hold = this.page.getByRole('button', { name: /^Pause|^Resume/ });
    await hold.click({ timeout: STEP_MS });
    await this.page.waitForTimeout(200);
    await hold.click({ timeout: STEP_MS });
    return true;
  }

  async #changeCollection(): Promise<boolean> {
    await this.#goTo(this.random.pick(this.collections));
    return true;
  }

  async #goTo(name: string): Promise<void> {
    await this.page.locator('nav a.item').filter({ hasText: name }).first().click({ timeout: STEP_MS });
    await this.page.waitForURL(new RegExp(`/data/${name}`), { timeout: STEP_MS });
    await this.page.locator('[data-row]').first().waitFor({ timeout: STEP_MS });
  }

  async #visit(): Promise<boolean> {
    const collection = this.#collection;
    const name = this.random.pick(['Query', 'Journal', 'Shapes', 'Devices', 'Operations', 'Access']);
    await this.page.locator('nav .pages a').filter({ hasText: name }).click({ timeout: STEP_MS });
    await this.page.waitForTimeout(this.random.integer(50, 600));
    await this.page.locator('nav a.item').filter({ hasText: collection }).first().click({ timeout: STEP_MS });
    await this.page.locator('[data-row]').first().waitFor({ timeout: STEP_MS });
    return true;
  }

  async #reload(): Promise<boolean> {
    await this.page.reload();
    await this.page.getByText('Connected', { exact: true }).waitFor({ timeout: 20_000 });
    await this.page.locator('[data-row]').first().waitFor({ timeout: 20_000 });
    return true;
  }
}
