/** What a printed barcode asks for instead of a product, as internal/paper/codes.go prints them. */
export type Command = "back" | "next" | "done" | "stock" | "look" | "written off";

const commands: Record<string, Command> = {
  "DO-BACK": "back",
  "DO-NEXT": "next",
  "DO-DONE": "done",
  "DO-STOCK": "stock",
  "DO-LOOK": "look",
  "DO-OFF": "written off",
};

/** The command that was scanned; null where it is no command. */
export const commandOf = (code: string): Command | null => commands[code.trim().toUpperCase()] ?? null;
