/** Svelte action: calls back whenever the element comes near what is in sight, as the end of a long list does. */
export function nearing(element: Element, then: () => void) {
  const observer = new IntersectionObserver(
    (entries) => {
      if (!entries.some((entry) => entry.isIntersecting)) return;
      then();
      // watched anew: one that stays in sight is told of again
      observer.unobserve(element);
      observer.observe(element);
    },
    { rootMargin: "1200px" },
  );
  observer.observe(element);
  return { destroy: () => observer.disconnect() };
}
