package run

import "container/heap"

// queue is a priority queue of the standard library's heap, which leaves the five methods
// to whoever uses it.
type queue[T any] struct {
	all    []T
	before func(a, b T) bool
}

func (q *queue[T]) push(v T) { heap.Push(q, v) }
func (q *queue[T]) pop() T   { return heap.Pop(q).(T) }
func (q *queue[T]) first() T { return q.all[0] }

func (q *queue[T]) Len() int           { return len(q.all) }
func (q *queue[T]) Less(i, j int) bool { return q.before(q.all[i], q.all[j]) }
func (q *queue[T]) Swap(i, j int)      { q.all[i], q.all[j] = q.all[j], q.all[i] }
func (q *queue[T]) Push(v any)         { q.all = append(q.all, v.(T)) }
func (q *queue[T]) Pop() any {
	last := q.all[len(q.all)-1]
	q.all = q.all[:len(q.all)-1]
	return last
}
