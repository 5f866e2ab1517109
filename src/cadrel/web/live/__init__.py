"""The live process: what the strip shows, and STOP, apart from the pages.

asgi.py       entry point of the process: three addresses, no Django views; start reading here
hub.py        one reader per drive, and whoever looks on
facts.py      what of the database the strip needs, read four times a second by one thread; stays when that goes away
stopping.py   STOP to every known axis at once; needs neither database nor worker nor page
passes.py     a signed cookie that says who looks, so that STOP asks no database
"""
