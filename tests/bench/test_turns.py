"""Who asks for a lock is let in before who asks for it again."""

import threading

from cadrel.bench.turns import Turns


def test_one_who_comes_back_at_once_keeps_nobody_out() -> None:
    turns, order = Turns(), []

    def ask(name: str) -> None:
        with turns:
            order.append(name)

    waiting = [threading.Thread(target=ask, args=(name,)) for name in "abc"]
    with turns:
        for number, thread in enumerate(waiting, start=2):
            thread.start()
            while turns._asked < number:
                pass
    with turns:
        order.append("back")
    for thread in waiting:
        thread.join()
    assert order == ["a", "b", "c", "back"]


def test_all_are_let_in_one_at_a_time() -> None:
    turns = Turns()
    inside, most, count = [0], [0], [0]

    def work() -> None:
        for _ in range(200):
            with turns:
                inside[0] += 1
                most[0] = max(most[0], inside[0])
                count[0] += 1
                inside[0] -= 1

    threads = [threading.Thread(target=work) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert (most[0], count[0]) == (1, 1200)
