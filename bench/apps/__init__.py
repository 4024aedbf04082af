"""Applications of other people, installed from the package indexes, that `./dynamikos bench real`
records and loads.

Each is a file with one `App`; `ALL` lists them.
"""

from bench.apps.almanac import ALMANAC
from bench.apps.backoffice import OFFICE
from bench.apps.base import App
from bench.apps.budget import BUDGET
from bench.apps.desk import DESK
from bench.apps.forum import FORUM
from bench.apps.notebooks import NOTEBOOKS
from bench.apps.orders import ORDERS
from bench.apps.purse import PURSE
from bench.apps.quarry import QUARRY
from bench.apps.shop import SHOP
from bench.apps.weather import WEATHER
from bench.apps.wiki import WIKI

ALL: tuple[App, ...] = (
    *(BUDGET, WIKI, FORUM, OFFICE, NOTEBOOKS, PURSE, ORDERS, SHOP),
    *(ALMANAC, QUARRY, DESK, WEATHER),
)
