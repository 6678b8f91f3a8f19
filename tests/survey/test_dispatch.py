"""Which site goes to which worker."""

from hypothesis import given
from hypothesis import strategies as st

from pewter.survey.dispatch import SITES_AT_AN_ADDRESS, Dispatch, Task


def task(key, *places):
    return Task(key, key, frozenset(places))


def filled(*tasks):
    dispatch = Dispatch()
    for each in tasks:
        dispatch.add(each)
    return dispatch


def test_hosts_take_turns():
    shared = [task(f"s{n}", "192.0.2.1", "192.0.2.0/24") for n in range(3)]
    others = [task(f"o{n}", f"198.51.{n}.1", f"198.51.{n}.0/24") for n in range(3)]
    dispatch = filled(*shared, *others)
    assert [dispatch.take("a").key for _ in range(6)] == ["s0", "o0", "o1", "o2", "s1", "s2"]
    assert dispatch.take("a") is None


def test_one_address_is_asked_by_one_worker_and_few_sites_at_a_time():
    tasks = [task(f"s{n}", "192.0.2.1") for n in range(SITES_AT_AN_ADDRESS + 1)]
    dispatch = filled(*tasks)
    taken = [dispatch.take("a") for _ in range(SITES_AT_AN_ADDRESS + 1)]
    assert (taken[-1], dispatch.take("b"), dispatch.waits) == (None, None, 1)
    for each in taken[:-1]:
        dispatch.done(each.key)
    assert dispatch.take("b").key == f"s{SITES_AT_AN_ADDRESS}"
    assert list(dispatch.owns("b", ["192.0.2.1", "192.0.2.2"])) == ["192.0.2.1"]


def test_a_site_at_two_places_waits_for_both():
    dispatch = filled(task("one", "192.0.2.1"), task("two", "192.0.2.2"), task("both", "192.0.2.1", "192.0.2.2"))
    assert (dispatch.take("a").key, dispatch.take("b").key) == ("one", "two")
    assert dispatch.take("a") is None
    dispatch.done("two")
    assert dispatch.take("a").key == "both"


def test_a_batch_holds_all_of_an_address():
    dispatch = filled(*(task(f"s{n}", "192.0.2.1") for n in range(100)), task("other", "198.51.100.1"))
    first = dispatch.take_batch("batch 1", 30)
    second = dispatch.take_batch("batch 2", 30)
    assert (len(first), [each.key for each in second]) == (30, ["other"])
    for each in first:
        dispatch.done(each.key)
    assert len(dispatch.take_batch("batch 3", 30)) == 30


@given(st.lists(st.tuples(st.sampled_from("abc"), st.lists(st.integers(1, 6), max_size=3)), max_size=40), st.randoms())
def test_nothing_is_lost_or_given_twice(wanted, random):
    """Whatever workers ask in whatever order: each task once, and no place at two workers at a time."""
    dispatch = filled(*(task(str(number), *map(str, places)) for number, (_, places) in enumerate(wanted)))
    under_way, seen = {}, []
    while dispatch.waits or under_way:
        worker = random.choice("abc")
        found = dispatch.take(worker)
        if found is not None:
            others = [places for owner, places in under_way.values() if owner != worker]
            assert not any(found.places & places for places in others)
            under_way[found.key] = worker, found.places
            seen.append(found.key)
        elif under_way:
            key = random.choice(sorted(under_way))
            del under_way[key]
            assert dispatch.done(key).key == key
    assert sorted(seen, key=int) == [str(number) for number in range(len(wanted))]
