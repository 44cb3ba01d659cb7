/** Short messages beside the work. What shows them is loaded with the first one. */
import type { ExternalToast } from "sonner";

type Tone = "plain" | "success" | "warning" | "error";

/** Shows a message; messages of the same `id` take each other's place instead of piling up. */
export function notify(words: string, { tone = "plain", ...options }: ExternalToast & { tone?: Tone } = {}): void {
  void import("sonner").then(({ toast }) => {
    const say = tone === "plain" ? toast : toast[tone];
    say(words, options);
  });
}
