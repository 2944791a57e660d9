// Package question is the one way in which usage is asked for: a Scope (whose figures, of when and where), what is
// wanted of it, and the plan that answers it from what is kept.
//
// It is pure: no I/O, no clock, no goroutine. PlanFor decides which of the kept books each measure is read from;
// internal/store carries the plan out, and has no other way to read usage. So the bounds of who asks, which a Scope
// carries, cannot be forgotten.
//
// It imports core/amount and core/account only. Start with Question and PlanFor.
package question
