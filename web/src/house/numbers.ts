// Limits by name, as people write them: a line each.

/** "K1: 3" a line. */
export const tellNumbers = (numbers: Record<string, number>): string =>
  Object.entries(numbers)
    .map(([name, number]) => `${name}: ${number}`)
    .join("\n");

/** The limits of such lines; a number that is none is refused by the server, not dropped here. */
export function readNumbers(text: string): Record<string, number> {
  const found: Record<string, number> = {};
  for (const line of text.split("\n")) {
    const at = line.lastIndexOf(":");
    if (!line.trim()) continue;
    const [name, number] = at < 0 ? [line, ""] : [line.slice(0, at), line.slice(at + 1)];
    found[name.trim()] = number.trim() === "" ? Number.NaN : Number(number);
  }
  return found;
}
