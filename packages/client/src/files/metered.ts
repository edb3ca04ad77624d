/**
 * Tells whether the link costs by the byte, or the person wants few bytes: the browser's word (https://wicg.github.io/netinfo/), where it gives one.
 */
export function isMetered(): boolean {
  const { navigator } = globalThis as {
    navigator?: { readonly connection?: { readonly saveData?: boolean; readonly type?: string } };
  };
  const { saveData, type } = navigator?.connection ?? {};
  return saveData === true || type === 'cellular';
}
