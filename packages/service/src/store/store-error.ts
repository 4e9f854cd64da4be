/** Why a store could not be opened or used, in words for the person who runs it. */
export class StoreError extends Error {
  override name = 'StoreError';
  constructor(
    readonly kind:
      | 'in-use'
      | 'not-a-store'
      | 'newer-format'
      | 'no-access'
      | 'damaged'
      | 'exists'
      | 'in-cluster'
      | 'cluster-refused'
      | 'cluster-unreachable',
    message: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
  }
}
