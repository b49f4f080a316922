"""An agent that serves for as long as a test goes on, and a client of it."""

from __future__ import annotations

import threading
import unittest

from good_tide.agent.service import Agent
from good_tide.operations.workplace import Workplace
from good_tide.protocol.client import AgentClient, agent_client
from good_tide.protocol.contract import Topic
from good_tide.protocol.sockets import agent_socket


def serve(test: unittest.TestCase, agent: Agent) -> Agent:
    """Let an agent serve in a thread of its own."""
    thread = threading.Thread(target=agent.run)
    thread.start()
    test.addCleanup(thread.join)
    test.addCleanup(agent.end)
    return agent


def connect(test: unittest.TestCase, here: Workplace, *topics: Topic) -> AgentClient:
    """A client of the agent of a workplace, which is told of some topics."""
    client = test.enterContext(agent_client(agent_socket(here.runtime, here.settings)))
    assert client is not None
    client.listen(*topics)
    return client
