"""Who asks, who computes, and what is kept of it: answers by the memory they hold, a few at once, and who has left."""
