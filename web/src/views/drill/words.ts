/** Why requests fail, in words. */
export const MECHANISMS: Record<string, string> = {
  waiting: "waiting for verdicts",
  dead_front: "dead front",
  old_answers: "old answers",
  overload: "overload",
  none_healthy: "none healthy",
  blocked: "blocked",
  by_rule: "by a rule",
  idle: "closed when idle",
};
