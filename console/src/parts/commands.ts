/** What a printed barcode asks for instead of a product, as internal/paper/codes.go prints them. */
export type Command = "back" | "next" | "done";

const commands: Record<string, Command> = { "DO-BACK": "back", "DO-NEXT": "next", "DO-DONE": "done" };

/** The command that was scanned; null where it is no command. */
export const commandOf = (code: string): Command | null => commands[code.trim().toUpperCase()] ?? null;
