/** Catalog files with the signature that lies beside each, by name: ``NAME`` and ``NAME.sig``. */
export function pairFiles<T extends { name: string }>(files: T[]): [T, T | null][] {
  const signatures = new Map(files.filter((f) => f.name.endsWith(".sig")).map((f) => [f.name, f]));
  return files
    .filter((f) => !f.name.endsWith(".sig"))
    .map((f) => [f, signatures.get(`${f.name}.sig`) ?? null]);
}
