import os
import not_installed_anywhere


def f(event):
    pass
