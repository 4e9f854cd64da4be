import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import type { JsonObject, JsonValue } from '../json/json.js';
import type { JsonPatch } from '../json/json-patch.js';
import { DependencyIndex, type Dependency } from '../matcher/dependency-index.js';
import type { Include, Query } from '../query/prepared-query.js';
import { PatchTracker } from '../views/patch-tracker.js';
import { Window } from '../views/window.js';
import { chooseListed, idsOf, isTaken, ownerOf, withRelated, type Relations } from './relations.js';

/** Called when a tree starts or stops to depend on related documents. */
export interface DependencyListener {
  begin(interest: Dependency): void;
  end(interest: Dependency): void;
}

/** The changes that concern parts of a tree, as it was before them. */
export type AffectedDocuments = ReadonlyMap<unknown, readonly DocumentChange[]>;

/**
 * The documents of a view with their related documents. A change of a related document is applied to exactly the
 * documents that show it.
 */
export class RelatedTree {
  readonly #query: Query;
  readonly #roots = new Map<string, TreeNode>();
  readonly #tracker = new PatchTracker();
  readonly #context: TreeContext;

  constructor(query: Query, relations: Relations, listener: DependencyListener) {
    this.#query = query;
    this.#context = {
      relations,
      listener,
      branches: new DependencyIndex<Branch>(),
      touch: (id) => this.#tracker.touch(id),
    };
  }

  /** The documents of the tree, without their related documents. */
  get documents(): Document[] {
    return [...this.#roots.values()].map(({ document }) => document);
  }

  has(id: string): boolean {
    return this.#roots.has(id);
  }

  /** A document with its related documents; undefined if it is not in the tree. */
  show(id: string): Document | undefined {
    return this.#roots.get(id)?.shown;
  }

  /** Has the tree be of a document, as it is now. */
  set(document: Document): void {
    const root = this.#roots.get(document.id);
    if (root) return root.update(document);
    this.#roots.set(document.id, new TreeNode(this.#context, document, this.#query, undefined));
    this.#tracker.touch(document.id);
  }

  delete(id: string): void {
    this.#roots.get(id)?.drop();
    if (this.#roots.delete(id)) this.#tracker.touch(id);
  }

  /** Finds what changes concern, before anything is done about them. */
  findAffected(changes: readonly DocumentChange[]): AffectedDocuments {
    const concerned = new Map<Branch, DocumentChange[]>();
    for (const change of changes) {
      this.#context.branches.interested(change, (branch) => {
        const noted = concerned.get(branch);
        if (!noted) concerned.set(branch, [change]);
        else if (noted.at(-1) !== change) noted.push(change);
      });
    }
    return concerned;
  }

  /** Applies changes to the affected documents. Documents that were looked up later contain them already. */
  follow(concerned: AffectedDocuments): void {
    for (const [branch, changes] of concerned as ReadonlyMap<Branch, readonly DocumentChange[]>) branch.follow(changes);
  }

  /** The changes since the previous call. */
  takePatch(): JsonPatch {
    return this.#tracker.takePatch((id) => this.show(id));
  }

  clear(): void {
    for (const id of [...this.#roots.keys()]) this.delete(id);
  }
}

/** What all parts of a tree share. */
interface TreeContext {
  readonly relations: Relations;
  readonly listener: DependencyListener;
  readonly branches: DependencyIndex<Branch>;
  /** Marks a document of the tree as possibly changed. */
  readonly touch: (id: string) => void;
}

/** One document, and below it a branch for each include. */
class TreeNode {
  readonly #branches: Branch[];
  #shown: Document | undefined;

  constructor(
    readonly context: TreeContext,
    public document: Document,
    readonly query: Query,
    readonly above: TreeNode | undefined,
  ) {
    this.#branches = query.includes.map((include) =>
      include.by ? new OwnedBranch(include, this) : new ListedBranch(include, this),
    );
  }

  get shown(): Document {
    if (this.#shown) return this.#shown;
    const shown = this.query.show(this.document);
    if (this.#branches.length === 0) return (this.#shown = shown);
    const related: JsonObject = {};
    for (const branch of this.#branches) related[branch.include.name] = branch.show();
    return (this.#shown = withRelated(shown, related));
  }

  update(document: Document): void {
    if (document.version === this.document.version) return;
    this.document = document;
    for (const branch of this.#branches) branch.ownerAltered();
    this.touch();
  }

  /** Notes that this, and so all above it, is shown otherwise now. */
  touch(): void {
    this.#shown = undefined;
    if (this.above) this.above.touch();
    else this.context.touch(this.document.id);
  }

  drop(): void {
    for (const branch of this.#branches) branch.drop();
  }
}

/** The documents that are related to one document by one include. */
abstract class Branch {
  #nodes = new Map<string, TreeNode>();
  #dropped = false;

  constructor(
    readonly include: Include,
    readonly owner: TreeNode,
  ) {}

  abstract ownerAltered(): void;
  protected abstract apply(changes: readonly DocumentChange[]): void;
  protected abstract endInterests(): void;
  /** Whether they are a list, or one or none. */
  protected abstract readonly list: boolean;

  follow(changes: readonly DocumentChange[]): void {
    if (!this.#dropped) this.apply(changes);
  }

  show(): JsonValue {
    const shown = [...this.#nodes.values()].map((node) => node.shown as unknown as JsonValue);
    return this.list ? shown : (shown[0] ?? null);
  }

  drop(): void {
    this.#dropped = true;
    this.endInterests();
    for (const node of this.#nodes.values()) node.drop();
  }

  /** Has the branch be of these documents, in this order. */
  protected hold(documents: readonly Document[]): void {
    const before = this.#nodes;
    this.#nodes = new Map();
    for (const document of documents) {
      const node = before.get(document.id);
      node?.update(document);
      this.#nodes.set(document.id, node ?? new TreeNode(this.owner.context, document, this.include.query, this.owner));
      before.delete(document.id);
    }
    for (const gone of before.values()) gone.drop();
    this.owner.touch();
  }

  protected begin(interest: Dependency): void {
    const { branches, listener } = this.owner.context;
    if (branches.add(interest, this)) listener.begin(interest);
  }

  protected end(interest: Dependency): void {
    const { branches, listener } = this.owner.context;
    if (branches.remove(interest, this)) listener.end(interest);
  }
}

/** Documents that hold the id of the one here. */
class OwnedBranch extends Branch {
  protected readonly list = true;
  readonly #window: Window;

  constructor(include: Include, owner: TreeNode) {
    super(include, owner);
    const { compare } = include.query;
    const id = owner.document.id;
    const belongs = (document: Document) => ownerOf(include, document) === id && isTaken(include, document);
    this.#window = new Window(include.limit, compare, belongs);
    this.begin(this.#interest);
    this.#fill();
    this.hold(this.#window.documents);
  }

  /** The id of a document never changes. */
  ownerAltered(): void {}

  protected apply(changes: readonly DocumentChange[]): void {
    if (!this.#window.follow(changes)) this.#fill();
    this.hold(this.#window.documents);
  }

  protected endInterests(): void {
    this.end(this.#interest);
  }

  get #interest(): Dependency {
    return { collection: this.include.query.from, field: this.include.by, value: this.owner.document.id };
  }

  #fill(): void {
    const { relations } = this.owner.context;
    const { documents, more } = relations.find(this.include, this.owner.document.id, this.#window.wanted);
    this.#window.fill(documents, !more);
  }
}

/** Documents whose ids the one here holds. */
class ListedBranch extends Branch {
  protected list = false;
  #ids: string[] = [];
  readonly #taken = new Map<string, Document>();

  constructor(include: Include, owner: TreeNode) {
    super(include, owner);
    this.ownerAltered();
  }

  ownerAltered(): void {
    const { ids, list } = idsOf(this.include, this.owner.query, this.owner.document);
    const before = new Set(this.#ids);
    this.#ids = ids;
    this.list = list;
    for (const id of ids) {
      if (before.delete(id)) continue;
      this.begin(this.#interest(id));
      this.#take(id, this.owner.context.relations.get(this.include, id));
    }
    for (const id of before) {
      this.end(this.#interest(id));
      this.#taken.delete(id);
    }
    this.#hold();
  }

  protected apply(changes: readonly DocumentChange[]): void {
    for (const { id, after } of changes) if (this.#ids.includes(id)) this.#take(id, after);
    this.#hold();
  }

  protected endInterests(): void {
    for (const id of this.#ids) this.end(this.#interest(id));
  }

  #hold(): void {
    const taken = this.#ids.map((id) => this.#taken.get(id)).filter((document) => document !== undefined);
    this.hold(chooseListed(this.include, taken));
  }

  #take(id: string, document: Document | undefined): void {
    if (document && isTaken(this.include, document)) this.#taken.set(id, document);
    else this.#taken.delete(id);
  }

  #interest(id: string): Dependency {
    return { collection: this.include.query.from, field: undefined, value: id };
  }
}
