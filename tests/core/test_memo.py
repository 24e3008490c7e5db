"""What is kept of earlier results, and for how long."""

import gc
import weakref
from concurrent.futures import ThreadPoolExecutor

import pytest

from kestrav.core.memo import Memo, clear_all, forget_projects


class Thing:
    """Something that is compared by value, as records are."""

    def __eq__(self, other):
        return True

    __hash__ = None


def counted(memo):
    """A way to ask a memo, and a list of what was made for it."""
    made = []

    def ask(*of, by=()):
        def make():
            made.append((of, by))
            return len(made)

        return memo.get(of, make, *by)

    return ask, made


def test_a_result_is_known_by_the_identity_of_what_it_is_of():
    ask, made = counted(Memo(4))
    one, alike = Thing(), Thing()
    assert one == alike
    assert [ask(one), ask(one), ask(alike), ask(one)] == [1, 1, 2, 1]
    assert len(made) == 2


def test_plain_values_beside_it_tell_results_apart():
    ask, made = counted(Memo(4))
    thing = Thing()
    assert [ask(thing, by=(1.0, "a")), ask(thing, by=(1.0, "b")), ask(thing, by=(1.0, "a"))] == [1, 2, 1]
    assert len(made) == 2


def test_nothing_is_a_result_too():
    memo, times = Memo(2), []
    for _ in range(3):
        assert memo.get((), lambda: times.append(1), "none") is None
    assert len(times) == 1


def test_what_was_not_asked_for_longest_goes_first():
    ask, made = counted(Memo(2))
    a, b, c = Thing(), Thing(), Thing()
    ask(a), ask(b), ask(a), ask(c)
    assert (ask(a), len(made)) == (1, 3)
    ask(b)
    assert len(made) == 4


def test_what_is_kept_lives_on_and_what_is_forgotten_does_not():
    memo = Memo(1)
    thing = Thing()
    watched = weakref.ref(thing)
    memo.get((thing,), lambda: "kept")
    del thing
    gc.collect()
    assert watched() is not None  # another object could take its identity otherwise
    clear_all()
    gc.collect()
    assert watched() is None and len(memo) == 0


def test_what_is_of_no_project_stays_when_another_is_opened():
    memo, lasting = Memo(2), Memo(2, lasting=True)
    for each in (memo, lasting):
        each.get((), lambda: 7, "x")
    forget_projects()
    assert len(memo) == 0 and len(lasting) == 1


def test_what_fails_is_not_kept():
    memo = Memo(2)
    with pytest.raises(ZeroDivisionError):
        memo.get((), lambda: 1 / 0, "x")
    assert memo.get((), lambda: 7, "x") == 7


def test_threads_may_ask_at_once():
    memo = Memo(8)

    def work(seed):
        return [memo.get((), lambda k=k: k * k, k) == k * k for k in ((seed * 7 + n) % 23 for n in range(3000))]

    with ThreadPoolExecutor(4) as pool:
        assert all(all(part) for part in pool.map(work, range(4)))
    assert len(memo) == 8
